"""Makes the pictures of the docs from the demo data: `python docs/screenshots/make.py [NAME...]`, or `nox -s pictures`.

Each is what a terminal of 1280 by 800 shows after some commands, or a browser of that size. Needs Xvfb, xterm, ImageMagick and
Chromium (`apt-get install xvfb xterm imagemagick chromium`), and what `pip install -e '.[dev]'` installs.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from tessaron.sources.demo.office import OFFICE_SECRET
from tessaron.sources.demo.office_server import OfficeServer, write_feeds

HERE = Path(__file__).parent
MISTAKEN = """[tables.calls]
rows = "$"
key = ["call_id"]
[tables.calls.columns]
call_id = { path = "$.call_id", type = "text" }
draught = { path = "$.vessel.draught_m", type = "decimal(5;2)" }
eta = { pth = "$.eta", type = "timestamp_tz" }
[tables.stays]
rows = "$.stay[*]"
keep = "statuss != 'x'"
"""
PICTURES = {
    "compare": [
        "sed 's/\"length_m\": \\([0-9]*\\)/\"length_m\": \\1.5/; s/\"agent\": \\({.*}}\\), \"eta\"/\"agent\": [\\1], \"eta\"/; s/\"remarks\"/\"note\"/' "
        "harbour/deliveries/2_tuesday.ndjson > wednesday.ndjson",
        "tessaron compare harbour/deliveries/1_monday.ndjson wednesday.ndjson",
        "tessaron compare sqlite:///harbour/nights.sqlite wednesday.ndjson --gate widens || echo the gate is shut",
    ],
    "cluster": [
        "tessaron estimate harbour/vessel_calls.ndjson --on-workers 2 --on-workers 8",
        "tessaron export harbour/vessel_calls.ndjson -o parts --cluster local:2 --part-size 200KB --name calls",
        "ls parts/calls_stays",
        "tessaron verify parts harbour/vessel_calls.ndjson | tail -2",
        "tessaron export harbour/vessel_calls.ndjson -o more --cluster tcp://127.0.0.1:9",
    ],
    "demo": ["tessaron demo --into again | head -50"],
    "draft": ["tessaron draft harbour/harbour_events.ndjson | head -50"],
    "export": [
        "tessaron export harbour/vessel_calls.ndjson -o tables --name calls",
        "head -c 900 tables/receipt.json",
        "tessaron export harbour/vessel_calls.ndjson -o tables",
    ],
    "fetch": [
        f"OFFICE_SECRET={OFFICE_SECRET} tessaron fetch harbour/office/login.feed.toml -o answers --verbose",
        "tessaron export answers -o answered",
        "tessaron export harbour/office/details.feed.toml -o details --keep-answers kept",
        "head -n 4 kept/answers.ndjson | cut -c1-150",
    ],
    "find": [
        "tessaron find harbour/vessel_calls.ndjson '$.stays[?@.berth == \"N1\"].moves[*].crane' --where-found --first 4",
        "tessaron find harbour/vessel_calls.ndjson '$.stays[*]' --pick berth='$.berth' --pick kinds='$.moves[*].kind' --first 5",
        "tessaron find harbour/vessel_calls.ndjson '$.stays[*].movs[*].teu'",
        "tessaron find harbour/manifests.xml '//g:item[g:weight > 50000]/g:name' --count",
    ],
    "history": [
        "tessaron load harbour/deliveries --to sqlite:///calls.db --ledger sqlite:///calls.db --name calls --key call_id --mode merge | tail -1",
        "head -n 2 harbour/vessel_calls.ndjson | sed 's/departed/corrected/; s/cancelled/corrected/; s/\"eta\"/\"due\"/' > harbour/deliveries/4.ndjson",
        "tessaron load harbour/deliveries --to sqlite:///calls.db --ledger sqlite:///calls.db --mode merge --on-change extend | tail -1",
        "tessaron history sqlite:///calls.db",
        "tessaron trace sqlite:///calls.db calls_stays 300 | cut -c1-158",
    ],
    "layout": [
        "cat mistaken.layout.toml",
        "tessaron export harbour/vessel_calls.ndjson --layout mistaken.layout.toml -o chosen",
        "tessaron export harbour/vessel_calls.ndjson --layout harbour/vessel_calls.layout.toml -o chosen",
    ],
    "load": [
        "tessaron load harbour/vessel_calls.ndjson --to sqlite:///calls.db --name calls --mode merge --key call_id --keys digest",
        "head -n 3 harbour/vessel_calls.ndjson | sed 's/departed/corrected/; s/cancelled/corrected/; s/alongside/corrected/' > corrections.ndjson",
        "tessaron load corrections.ndjson --to sqlite:///calls.db --mode merge --as-before",
        "tessaron load corrections.ndjson --to sqlite:///calls.db --name calls",
    ],
    "preview": ["tessaron preview harbour/vessel_calls.ndjson --table stays --rows 3", "tessaron preview harbour/vessel_calls.ndjson --table vessel_calls --rows 1"],
    "survey": ["tessaron survey harbour/vessel_calls.ndjson --match stays"],
    "verify": ["tessaron verify harbour/parquet", "tessaron rebuild harbour/parquet -o rebuilt.ndjson", "head -n 1 rebuilt.ndjson | cut -c1-600"],
    "xml": ["tessaron survey harbour/manifests.xml --match consignments | head -30", "tessaron export harbour/manifests.xml -o manifests"],
}  # fmt: skip


BROWSED = ("page", "diagram", "choosing", "notebook", "figure")
"""Those that a browser shows, or Matplotlib draws."""
_QUIET = ("--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update")


def main() -> None:
    for program in ("Xvfb", "xterm", "import", "chromium"):
        if shutil.which(program) is None:
            sys.exit(f"{program} is not there: apt-get install xvfb xterm imagemagick chromium")
    with tempfile.TemporaryDirectory() as made, OfficeServer() as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        folder = Path(made)
        subprocess.run(
            [sys.executable, "-m", "tessaron", "demo", "--into", folder / "harbour"],
            check=True,
            stdout=subprocess.DEVNULL,
        )
        write_feeds(folder / "harbour" / "office", server.url)
        (folder / "mistaken.layout.toml").write_text(MISTAKEN, "utf-8")
        for name in sys.argv[1:] or (*PICTURES, *BROWSED):
            if name in BROWSED:
                browse(name, folder / "harbour" / "vessel_calls.ndjson", folder)
            else:
                take(name, folder)
            print(HERE / f"{name}.png")
        server.shutdown()


def take(name: str, folder: Path) -> None:
    """Run the commands of a picture in a terminal, and take it when they are done."""
    done = folder / f"{name}.done"
    lines = ["clear"]
    for command in PICTURES[name]:
        lines += [f"printf '%s\\n' {quoted('$ ' + command)}", command, "echo"]
    (folder / "run.sh").write_text("\n".join([*lines, f"touch {done}", "sleep 60"]), "utf-8")
    here = {
        **os.environ, "DISPLAY": ":77", "COLUMNS": "155", "PAGER": "cat", "MASK": "x", "TESSARON_MASK_KEY": "a secret only for the pictures",
        "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
    }  # fmt: skip
    with subprocess.Popen(
        ["Xvfb", ":77", "-wr", "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL
    ) as screen:
        time.sleep(1)
        terminal = subprocess.Popen(
            ["xterm", "-tn", "xterm-256color", "-fa", "DejaVu Sans Mono", "-fs", "9", "-geometry", "158x53+0+0", "-bg", "white", "-fg", "black", "-bw", "0", "-b", "8", "-e", "bash", "run.sh"],
            cwd=folder, env=here,
        )  # fmt: skip
        for _ in range(120):
            if done.exists():
                break
            time.sleep(0.5)
        time.sleep(1)
        picture = HERE / f"{name}.png"
        subprocess.run(
            ["import", "-window", "root", "+dither", "-colors", "48", f"PNG8:{picture}"], env=here, check=True
        )
        terminal.kill()
        screen.terminate()


def browse(name: str, feed: Path, folder: Path) -> None:
    """Take the picture of a page, of choosing on one, of a notebook's forms, or of a figure."""
    import tessaron
    from tessaron.choosing.choosing_server import ChoosingServer
    from tessaron.choosing.live_draft import LiveDraft
    from tessaron.look.charting import chart_source
    from tessaron.views.page.command_pages import page_of_chart
    from tessaron.views.page.page_writing import write_page

    os.chdir(feed.parent)
    picture = HERE / f"{name}.png"
    if name == "figure":
        tessaron.survey(feed.name).figure().savefig(picture)
        return
    if name == "notebook":
        forms = (tessaron.shred(feed.name, name="calls"), tessaron.survey(feed.name))
        shown = "<hr>".join(f"<pre>{type(each).__name__}</pre>{each._repr_html_()}" for each in forms)
        (folder / "notebook.html").write_text(
            f"<meta charset=utf-8><body style='font: 14px sans-serif'>{shown}", "utf-8"
        )
        browsed(picture, (folder / "notebook.html").as_uri())
        return
    chart = chart_source(feed.name)
    if name == "choosing":
        live = LiveDraft(chart, None, "my.layout.toml", feed.name)
        live.choices.make({"do": "keep", "table": "vessel_calls", "keep": "status != 'cancelled'"})
        live.choices.make(
            {
                "do": "fold",
                "table": "vessel_calls_stays",
                "column": "berth",
                "fold": "joined",
                "into": "vessel_calls",
            }
        )
        with ChoosingServer(live) as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            browsed(picture, f"{server.url}#path=%24.stays%5B*%5D.berth")
            server.shutdown()
        return
    write_page(page_of_chart(chart, "survey", feed.name), folder / "page.html")
    places = {"page": "#path=%24.stays%5B*%5D.moves%5B*%5D.container", "diagram": "#table=vessel_calls_stays"}
    browsed(picture, (folder / "page.html").as_uri() + places[name])


def browsed(picture: Path, url: str) -> None:
    """Take a picture of a page in a browser without a screen."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=list(_QUIET))
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(url)
        page.wait_for_timeout(800)
        page.screenshot(path=picture)
        browser.close()
    subprocess.run(["convert", picture, "+dither", "-colors", "128", f"PNG8:{picture}"], check=True)


def quoted(text: str) -> str:
    """Return a text as a word of the shell."""
    return "'" + text.replace("'", "'\\''") + "'"


if __name__ == "__main__":
    main()
