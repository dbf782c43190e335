"""`tessaron estimate`: what an export would take, before it is begun."""

from __future__ import annotations

from typing import Any, cast

import click

from tessaron.cli.command_group import WorkCommand
from tessaron.cli.shared_options import (
    ByteSize,
    count_type,
    dictionary_options,
    dividing_options,
    exact_option,
    key_option,
    keys_option,
    layout_of,
    no_envelope_option,
    records_option,
    shaping_options,
    xml_options,
)
from tessaron.cli.source_arguments import check_no_mark, source_argument, source_of, source_options
from tessaron.core.base.bounds import MOST_WORKERS


@click.command(cls=WorkCommand)
@source_argument
@click.option(
    "--on-workers", type=count_type(most=MOST_WORKERS), multiple=True, metavar="N",
    help="Clusters of so many workers; else of 4, 16 and 64.",
)  # fmt: skip
@click.option("--part-size", "part_bytes", type=ByteSize(), metavar="SIZE", help="As in export.")
@click.option(
    "--sample-size", "sample_bytes", type=ByteSize(), metavar="SIZE", help="So much is read; else 32MB."
)
@click.option(
    "--format", "format_name", type=click.Choice(["parquet", "csv", "tsv", "arrow", "jsonl"]),
    default="parquet", show_default=True, help="In which files are written.",
)  # fmt: skip
@records_option
@xml_options
@shaping_options
@no_envelope_option
@keys_option
@key_option
@dividing_options
@exact_option
@dictionary_options
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@source_options
def estimate(
    sources: tuple[str, ...],
    part_bytes: int | None,
    sample_bytes: int | None,
    format_name: str,
    no_envelope: bool,
    dictionary: tuple[str, ...],
    no_dictionary: tuple[str, ...],
    layout_file: str | None,
    as_json: bool,
    **options: Any,
) -> None:
    """Tell what an export of SOURCE would take: time and memory on so many workers, and the size of files.

    A sample is exported and measured on this machine; what else there is, is only listed.
    """
    from tessaron.forecast.estimating import estimate as estimated
    from tessaron.views.estimate_view import estimate_view
    from tessaron.views.terminal import console, show

    check_no_mark()
    sizes = {"part_bytes": part_bytes, "sample_bytes": sample_bytes}
    options |= {name: size for name, size in sizes.items() if size is not None}
    found = estimated(
        source_of(sources), format=cast("Any", format_name), layout=layout_of(layout_file),
        envelope=not no_envelope, dictionaries=dictionary, not_dictionaries=no_dictionary, **options,
    )  # fmt: skip
    if as_json:
        click.echo(found.to_json(), nl=False)
    else:
        show(console(), *estimate_view(found))
