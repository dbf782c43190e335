"""The code blocks of a page of the docs: files to be written, and sessions of a terminal to be run and compared."""

from __future__ import annotations

import atexit
import contextlib
import io
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
from functools import cache
from pathlib import Path

from tests.harness import quick_command

_BLOCK = re.compile(r"^```(?P<kind>\w+)(?: title=\"(?P<file>[^\"]+)\")?\n(?P<text>.*?)^```$", re.M | re.S)
_CHANGING = (
    (re.compile(r"\d+\.\d\d seconds"), "0.05 seconds"),
    (re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d UTC"), "2026-11-30 06:00:00 UTC"),
    (re.compile(r"http://127\.0\.0\.1:\d+"), "http://127.0.0.1:8873"),
)
"""What is another each time, and how it stands in the docs."""


def run_page(text: str, folder: Path) -> str:
    """Return a page with its sessions run anew in a folder: what stands below each command is what it said."""
    return _BLOCK.sub(lambda found: _block(found, folder), text)


def _block(found: re.Match[str], folder: Path) -> str:
    kind, file, text = found["kind"], found["file"], found["text"]
    if file is not None:
        (folder / file).write_text(text, "utf-8")
    if kind != "console":
        return found[0]
    commands = [line[2:] for line in text.splitlines() if re.match(r"\$ \S", line)]
    return "```console\n" + "".join(f"$ {line}\n{_said(line, folder)}" for line in commands) + "```"


def _said(line: str, folder: Path) -> str:
    """Return what a command line says, standard error behind standard output, as it stands in the docs."""
    if line.startswith("tessaron ") and not set(line) & set("|>"):
        with contextlib.chdir(folder):
            done = quick_command(*shlex.split(line)[1:], TERM="dumb", COLUMNS="")
        return _shown(done.stdout.decode(), done.stderr.decode())
    setting = f'tessaron() {{ {shlex.quote(sys.executable)} -m tessaron "$@"; }}\n'
    done = subprocess.run(
        ["bash", "-c", setting + line], cwd=folder, capture_output=True, text=True, timeout=60, check=False
    )
    return _shown(done.stdout, done.stderr)


def _shown(output: str, errors: str) -> str:
    text = output + errors
    for pattern, shown in _CHANGING:
        text = pattern.sub(shown, text)
    return text if not text or text.endswith("\n") else text + "\n"


def make_world(folder: Path, office: str) -> None:
    """Write the files that pages speak of: those of the demo, and feed files for the office at an address."""
    from tessaron.sources.demo.office_server import write_feeds

    shutil.copytree(_demo(), folder, dirs_exist_ok=True)
    write_feeds(folder / "office", office)


@cache
def _demo() -> Path:
    """Run the demo, once in a process; return its folder."""
    from rich.console import Console

    from tessaron.cli.walkthrough.demo_story import show_demo
    from tessaron.cli.walkthrough.telling import Telling

    folder = Path(tempfile.mkdtemp(prefix="tessaron-demo-test-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    # Its files are named as they are by who stands in its folder.
    shown = io.StringIO()
    with contextlib.chdir(folder):
        show_demo(Path(), Telling(Console(file=shown, width=200)))
    _SHOWN.append(shown.getvalue())
    return folder


_SHOWN: list[str] = []


def demo_in_short() -> str:
    """Return what the demo prints in its short form."""
    _demo()
    return _SHOWN[0]


def main() -> None:
    """Fill in what the sessions of the pages say, on the data of the demo; pages are named as arguments."""
    import threading

    from tessaron.sources.demo.office_server import OfficeServer

    with OfficeServer() as server, tempfile.TemporaryDirectory() as made:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        for name in sys.argv[1:]:
            page, folder = Path(name), Path(made) / Path(name).stem
            folder.mkdir()
            make_world(folder, server.url)
            page.write_text(run_page(page.read_text("utf-8"), folder), "utf-8")
        server.shutdown()


if __name__ == "__main__":
    main()
