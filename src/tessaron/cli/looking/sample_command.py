"""`tessaron sample`: a small file with the same structure, to be shared."""

from __future__ import annotations

import click

from tessaron.cli.command_group import WorkCommand, say
from tessaron.cli.shared_options import count_type, records_option
from tessaron.cli.source_arguments import source_argument, source_of, source_options


@click.command(cls=WorkCommand)
@source_argument
@records_option
@click.option("-o", "--output", required=True, metavar="FILE", help="The file to write.")
@click.option("--first", type=count_type(), default=20, show_default=True, metavar="N", help="Records.")
@click.option("--mask", is_flag=True, help="Replace the values by others of the same look.")
@click.option("--replace", is_flag=True, help="Replace the file if it is there.")
@source_options
def sample(
    sources: tuple[str, ...], records: str | None, output: str, first: int, mask: bool, replace: bool
) -> None:
    """Write a small file with the same structure as SOURCE: records with rare structures, then the first.

    With --mask letters are replaced by letters, digits by digits, dates by dates, and keys of dictionaries
    too; the same value always by the same one, different values by different ones. Names of fields, true,
    false and null stay. The secret behind it is made anew each time and kept nowhere.
    """
    from tessaron.look import sampling

    taken = sampling.sample(
        source_of(sources), output, first=first, mask=mask, records=records, replace=replace
    )
    how = "masked" if taken.masked else "as they are; --mask hides the values"
    say(f"{taken.records:,} of {taken.seen:,} records in {output}, {how}")
