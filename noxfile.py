"""All tasks of a developer: `nox -l` lists them, `nox -s tests` runs one."""

from pathlib import Path

import nox

nox.options.sessions = ["lint", "types", "tests"]
nox.options.error_on_missing_interpreters = False
CHECKED = ("src", "tests", "benchmarks", "docs", "examples", "fuzz", "noxfile.py", "setup.py")


@nox.session(python=["3.11", "3.12", "3.13", "3.14"])
def tests(session: nox.Session) -> None:
    """Run all tests, or those named: `nox -s tests-3.11 -- tests.test_xml`."""
    session.install("-e", ".[dev]", env={"TESSARON_DEMAND_COMPILED": "1"})
    session.run("python", "-W", "error", "-m", "unittest", *session.posargs)


@nox.session(python="3.11")
def tests_plain(session: nox.Session) -> None:
    """Run all tests on an installation without compiled code, made from the source distribution."""
    folder = Path(session.create_tmp())
    session.install("build")
    session.run("python", "-m", "build", "--sdist", "--outdir", str(folder), ".")
    archive = max(folder.glob("*.tar.gz"), key=lambda path: path.stat().st_mtime)
    session.install(f"{archive}[dev]", env={"TESSARON_WITHOUT_COMPILED": "1"})
    session.run("python", "-W", "error", "-m", "unittest", *session.posargs)


@nox.session(python="3.11")
def coverage(session: nox.Session) -> None:
    """Say which lines and branches no test runs; fails below the floor in `pyproject.toml`."""
    session.install("-e", ".[dev]")
    session.run("coverage", "run", "-m", "unittest")
    session.run("coverage", "combine", "--quiet")
    session.run("coverage", "report", "--skip-covered")


@nox.session(python="3.11")
def lint(session: nox.Session) -> None:
    """Check style and form of all code."""
    session.install("ruff")
    session.run("ruff", "check", *CHECKED)
    session.run("ruff", "format", "--check", *CHECKED)


@nox.session(python="3.11")
def types(session: nox.Session) -> None:
    """Check types, strictly."""
    session.install("-e", ".[dev]")
    session.run("mypy")


@nox.session(python="3.11")
def fuzz(session: nox.Session) -> None:
    """Look for inputs that break something: `nox -s fuzz -- 600` for so many seconds a target."""
    session.install("-e", ".[dev,fuzz]")
    seconds = session.posargs or ["30"]
    session.run("python", "fuzz/run.py", *seconds)
    session.run("python", "fuzz/sanitized.py", *seconds)


@nox.session(python="3.11")
def mutants(session: nox.Session) -> None:
    """Change the code in small ways, and list those that no test notices: `nox -s mutants -- types`."""
    session.install("-e", ".[dev]")
    session.run("python", "-m", "tests.mutation", *session.posargs)


@nox.session(python="3.11")
def benchmarks(session: nox.Session) -> None:
    """Measure against the bars, as ratios, side by side."""
    session.install("-e", ".[dev]")
    session.run("python", "benchmarks/bars.py", *session.posargs)
    session.run("python", "benchmarks/sources.py")
    session.run("python", "benchmarks/pages.py")


@nox.session(python="3.11")
def docs(session: nox.Session) -> None:
    """Check that what the docs say is so, every line, link and picture; then build the site."""
    session.install("-e", ".[dev]")
    pages = ("commands", "drafts", "expressions", "layouts", "types", "xml")
    others = ("links", "site", "page_sessions", "documentation")
    names = [f"tests.test_{name}" for name in others] + [f"tests.test_page_of_{page}" for page in pages]
    session.run("python", "-m", "unittest", *names)
    session.run("mkdocs", "build", "--quiet")


@nox.session(python="3.11")
def sessions(session: nox.Session) -> None:
    """Write anew what the commands in pages say: `nox -s sessions -- docs/recipes.md`."""
    session.install("-e", ".[dev]")
    session.run("python", "-m", "tests.page_sessions", *session.posargs)


@nox.session(python="3.11")
def pictures(session: nox.Session) -> None:
    """Make the pictures of the docs again: `nox -s pictures -- survey` for one of them."""
    session.install("-e", ".[dev]")
    session.run("python", "docs/screenshots/make.py", *session.posargs)


@nox.session(python="3.11")
def package(session: nox.Session) -> None:
    """Build both distributions, and run the demo from each in an environment of its own."""
    folder = Path(session.create_tmp())
    session.install("build")
    session.run("python", "-m", "build", "--outdir", str(folder), ".")
    for pattern in ("*.whl", "*.tar.gz"):
        built = max(folder.glob(pattern), key=lambda path: path.stat().st_mtime)
        session.install("--force-reinstall", str(built))
        session.run("tessaron", "demo", "--records", "50", "--into", str(folder / pattern.strip("*.")))
