"""How commands are typed, on the data that `tessaron demo --into .` leaves; shown by --help, run by tests."""

from __future__ import annotations

EXAMPLES: dict[str, tuple[tuple[str, str], ...]] = {
    "fetch": (("every page of an API, as files", "tessaron fetch office/next.feed.toml -o pages"),),
    "survey": (
        ("what is in the feed", "tessaron survey vessel_calls.ndjson"),
        ("only what has to do with berths", "tessaron survey vessel_calls.ndjson --match berth"),
        ("for the browser", "tessaron survey vessel_calls.ndjson --page calls.html"),
        (
            "kept: to compare with, to complete paths from",
            "tessaron survey vessel_calls.ndjson --json > calls.survey.json",
        ),
    ),
    "find": (
        (
            "how many moves at one berth",
            "tessaron find vessel_calls.ndjson '$.stays[?@.berth == \"N1\"].moves[*]' --count",
        ),
        (
            "columns of one's own",
            "tessaron find vessel_calls.ndjson '$' --pick call='$.call_id' --pick eta='$.eta' --as csv",
        ),
        ("XML", "tessaron find manifests.xml '//g:item[g:weight > 89900]/g:name' --raw"),
    ),
    "values": (
        ("every value with its place", "tessaron values inspections.json | grep soundings | head -n 3"),
    ),
    "estimate": (
        ("what an export would take", "tessaron estimate vessel_calls.ndjson"),
        (
            "on clusters of 8 and 32 workers",
            "tessaron estimate vessel_calls.ndjson --on-workers 8 --on-workers 32",
        ),
    ),
    "sample": (
        (
            "for somebody else, with nothing of the data",
            "tessaron sample vessel_calls.ndjson -o sample.ndjson --first 20 --mask",
        ),
    ),
    "draft": (
        ("a layout to edit", "tessaron draft vessel_calls.ndjson --name calls -o calls.layout.toml"),
        ("why each table is one", "tessaron draft harbour_events.ndjson --why"),
        ("how the tables hang together", "tessaron draft vessel_calls.ndjson --tree"),
        (
            "brought up to date, with all edits kept",
            "tessaron draft vessel_calls.ndjson --update calls.layout.toml",
        ),
    ),
    "preview": (
        ("three rows of each table", "tessaron preview vessel_calls.ndjson --rows 3"),
        (
            "one table, as a layout makes it",
            "tessaron preview vessel_calls.ndjson --layout calls.layout.toml --table calls_stays",
        ),
    ),
    "export": (
        ("Parquet, one file a table", "tessaron export vessel_calls.ndjson -o tables --name calls"),
        (
            "CSV, by a layout",
            "tessaron export vessel_calls.ndjson --layout calls.layout.toml -o chosen --format csv",
        ),
        (
            "one flat sheet for an analyst",
            "tessaron export vessel_calls.ndjson -o sheet --flat '$.stays[*]' --format xlsx",
        ),
    ),
    "load": (
        ("a new database", "tessaron load vessel_calls.ndjson --to sqlite:///calls.db --name calls"),
        (
            "every delivery, by its key: new, changed and unchanged are told apart",
            "tessaron load vessel_calls.ndjson --to sqlite:///kept.db --key call_id --mode merge",
        ),
    ),
    "ddl": (("for another database", "tessaron ddl tables --dialect sqlite"),),
    "verify": (
        ("an export against its source", "tessaron verify tables"),
        ("what stands in a database", "tessaron verify sqlite:///calls.db"),
    ),
    "rebuild": (("the documents, one a line", "tessaron rebuild tables -o again.ndjson"),),
    "compare": (
        (
            "before the new delivery is loaded",
            "tessaron compare tables deliveries/1_monday.ndjson --gate breaks",
        ),
    ),
    "watch": (
        (
            "what comes into a folder, until stopped",
            "tessaron watch deliveries --to sqlite:///office.db --name calls",
        ),
    ),
    "history": (("the last runs", "tessaron history sqlite:///calls.db"),),
    "trace": (("where one row is from", "tessaron trace sqlite:///calls.db calls_stays 300"),),
    "completion": (
        ("in this shell, and with the line in ~/.bashrc in all", 'eval "$(tessaron completion bash)"'),
    ),
    "demo": (
        ("in a folder of its own, to try things on", "tessaron demo --into harbour"),
        ("one step, with all that it prints", "tessaron demo --step 8"),
    ),
}
"""For each command what for, and the line."""
