"""The option for a page, and how one is saved."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Iterator, Mapping
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tessaron.cli import completing
from tessaron.cli.command_group import say

if TYPE_CHECKING:
    from tessaron.views.page.page_model import Page

_REJECTS_LOOKED_AT = 2_000


def check_place(file: str, what: str) -> None:
    """Check, before any work is done, that a file can come to stand where it is to.

    Raises:
        TargetError: When its folder is not there, or it is a folder itself.
    """
    from tessaron.core.base.errors import TargetError

    path = Path(file)
    if path.is_dir():
        raise TargetError(f"{file}: {what} cannot be written: it is a folder")
    if not path.parent.is_dir():
        raise TargetError(f"{file}: {what} cannot be written: there is no folder {path.parent}")


def _checked(context: click.Context, option: click.Parameter, file: str | None) -> str | None:
    if file is not None and not context.resilient_parsing:
        check_place(file, "the page")
    return file


page_option = click.option(
    "--page",
    "page_file",
    metavar="FILE.html",
    shell_complete=completing.files,
    callback=_checked,
    help="Also write a page for browsers: one file, no network.",
)


def save_page(page: Page, file: str) -> None:
    """Write a page, and say so."""
    from tessaron.views.page.page_writing import write_page

    write_page(page, file)
    say(f"the page is {file}: open it in a browser")


def typed(sources: Iterable[str]) -> str:
    """Return sources as they are typed in a shell."""
    return shlex.join(sources)


def save_run_page(
    command: str,
    file: str,
    receipt: Mapping[str, Any],
    layout_text: str,
    rows: Mapping[str, Any],
    rejects: Iterable[Mapping[str, Any]],
    target: str,
) -> None:
    """Write the page of a run, with what can be typed next.

    Args:
        command: `export` or `load`.
        file: The page.
        receipt: As in `receipt.json`.
        layout_text: The layout file.
        rows: The first rows of each table.
        rejects: The first rejects.
        target: The folder or the URL, as it was typed.
    """
    from tessaron.decide.layout_file import Layout
    from tessaron.views.page.command_pages import page_of_run
    from tessaron.views.page.page_model import NextCommand

    where = shlex.quote(target)
    advice = [NextCommand("prove that nothing was lost", f"tessaron verify {where}")]
    advice += [NextCommand("see what runs have done", f"tessaron history {where}")]
    layout = Layout(layout_text, f"layout of {target}")
    few = islice(rejects, _REJECTS_LOOKED_AT)
    save_page(page_of_run(command, receipt, layout, rows, few, advice), file)


def rejects_in(folder: str) -> Iterator[Mapping[str, Any]]:
    """Yield the rejects of an export, where it is in a folder of this machine."""
    from tessaron.sources.remote.store_urls import is_store
    from tessaron.write.books.receipt import read_rejects

    if not is_store(folder):
        yield from read_rejects(Path(folder))
