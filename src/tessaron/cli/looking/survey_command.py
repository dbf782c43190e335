"""`tessaron survey`: an outline of the structure, and what to know before loading."""

from __future__ import annotations

import sys
from typing import Any, cast

import click

from tessaron.cli.command_group import (
    EXIT_CHECK_FAILED,
    WorkCommand,
    palette,
    say,
    show_paged,
    terminal_width,
)
from tessaron.cli.page_option import page_option, save_page, typed
from tessaron.cli.shared_options import (
    count_type,
    dictionary_options,
    layout_of,
    layout_option,
    memory_option,
    records_option,
    skip_unknown_option,
    workers_option,
    xml_options,
)
from tessaron.cli.source_arguments import source_argument, source_of, source_options
from tessaron.core.base.bounds import MOST_LEVELS
from tessaron.core.base.visible import in_quotes


@click.command(cls=WorkCommand)
@source_argument
@records_option
@xml_options
@layout_option
@click.option("--match", metavar="PATTERN", help="Only paths with this in them, with their ancestors.")
@click.option("--depth", type=count_type(0, MOST_LEVELS), metavar="N", help="Only N levels below the record.")
@click.option("--first", type=count_type(), metavar="N", help="Only the first N records: a sample.")
@click.option(
    "--sort",
    type=click.Choice(["data", "name", "fill", "distinct"]),
    default="data",
    show_default=True,
    help="The order among siblings: as in the data, by name, least filled first, most distinct first.",
)
@click.option("--all", "is_whole", is_flag=True, help="Every path, be there ever so many.")
@click.option(
    "--notes",
    type=click.Choice(["telling", "all"]),
    default="telling",
    show_default=True,
    help="The sorts of notes that hurt most, with three examples each; or every note.",
)
@dictionary_options
@workers_option
@memory_option
@skip_unknown_option
@page_option
@click.option("--json", "as_json", is_flag=True, help="Print the whole survey as JSON.")
@source_options
def survey(
    sources: tuple[str, ...],
    match: str | None,
    depth: int | None,
    sort: str,
    is_whole: bool,
    notes: str,
    dictionary: tuple[str, ...],
    no_dictionary: tuple[str, ...],
    as_json: bool,
    layout_file: str | None,
    page_file: str | None,
    **options: Any,
) -> None:
    """Show the structure of SOURCE: every path with its fill rate, type, distinct values and range.

    Distinct counts above 200 are estimates (marked ~, standard error 1.6 %); everything else is exact. Under
    the outline stand notes: what to know before loading, each with an example and its place.
    """
    from tessaron.look.surveying import survey_source
    from tessaron.views.progress import ProgressBar
    from tessaron.views.survey_outline import ShownPaths, outline_lines, select
    from tessaron.views.survey_view import Survey
    from tessaron.views.terminal import console

    options |= {"dictionaries": dictionary, "not_dictionaries": no_dictionary}
    layout = layout_of(layout_file)
    page = None
    with ProgressBar(console(stderr=True)) as bar:
        if page_file is not None and layout is None:
            from tessaron.look.charting import chart_source
            from tessaron.views.page.command_pages import page_of_chart

            chart = chart_source(source_of(sources), bar, **options)
            facts, page = chart.facts, page_of_chart(chart, "survey", typed(sources))
        else:
            facts = survey_source(source_of(sources), bar, layout=layout, **options)
    if page_file is not None and layout is not None:
        from tessaron.views.page.command_pages import page_of_survey

        page = page_of_survey(facts, layout, typed(sources))
    if page is not None and page_file is not None:
        save_page(page, page_file)
    if as_json:
        sys.stdout.write(Survey(facts).to_json() + "\n")
        return
    selection = ShownPaths(match, depth, cast("Any", sort), is_whole, notes == "all")
    if match is not None and not select(facts, selection)[0]:
        say(
            f"no path has {in_quotes(match)} in it; there are {len(facts.entries):,} paths, see "
            f"them without --match"
        )
        sys.exit(EXIT_CHECK_FAILED)
    lines = outline_lines(facts, selection, terminal_width(), palette())
    show_paged(line + "\n" for line in lines)
