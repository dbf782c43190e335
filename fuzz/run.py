"""Fuzz everything that takes foreign bytes, guided by coverage: `python fuzz/run.py [SECONDS] [TARGET...]`.

Each target gets so many seconds (20 unless told otherwise). What fails is written to `fuzz/found/TARGET/`;
leave it there, mend the fault, and the test suite tries it for ever after. Needs the extra `fuzz`.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).parent
_SECONDS, _LONGEST_INPUT, _SLOWEST_SECONDS, _LINES_SHOWN = 20, 4_096, 20, 30


def main(arguments: list[str]) -> int:
    """Fuzz the targets, one process after the other; return how many failed."""
    sys.path.insert(0, str(HERE))
    from targets import TARGETS

    seconds = int(arguments[0]) if arguments else _SECONDS
    names = arguments[1:] or list(TARGETS)
    failed = [name for name in names if _fuzz(name, seconds, TARGETS[name][1])]
    print(
        f"{len(names)} targets, {seconds} s each: {'failed: ' + ', '.join(failed) if failed else 'nothing found'}"
    )
    return len(failed)


def _fuzz(name: str, seconds: int, seeds: tuple[bytes, ...]) -> bool:
    found = HERE / "found" / name
    found.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as corpus:
        for number, seed in enumerate(seeds):
            Path(corpus, str(number)).write_bytes(seed)
        done = subprocess.run(
            [
                sys.executable, __file__, "--one", name, corpus, str(found), f"-max_total_time={seconds}",
                f"-max_len={_LONGEST_INPUT}", f"-timeout={_SLOWEST_SECONDS}", f"-artifact_prefix={found}/",
                "-verbosity=0", "-rss_limit_mb=4096",
            ],
            check=False, capture_output=True, text=True, errors="replace",
        )  # fmt: skip
    if done.returncode:
        print("\n".join(done.stderr.splitlines()[-_LINES_SHOWN:]))
    if not any(found.iterdir()):
        found.rmdir()
    return done.returncode != 0


def one(name: str, arguments: list[str]) -> None:
    """Fuzz one target until its time is over; never returns."""
    import atheris

    sys.path.insert(0, str(HERE))
    with atheris.instrument_imports(include=["tessaron"]):
        from targets import TARGETS
    atheris.Setup([name, *arguments], TARGETS[name][0])
    atheris.Fuzz()


if __name__ == "__main__":
    if sys.argv[1:2] == ["--one"]:
        one(sys.argv[2], sys.argv[3:])
    sys.exit(min(main(sys.argv[1:]), 1))
