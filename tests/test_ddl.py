"""The SQL that makes tables: held to SQLAlchemy's dialects, parsed, and run where the databases are at hand."""

import json
import re
import shutil
import sqlite3
import subprocess
import unittest
from contextlib import closing

import sqlalchemy as sa
import sqlglot
from sqlalchemy.dialects import mssql, mysql, oracle, postgresql, sqlite
from sqlalchemy.engine.default import DefaultDialect

import tessaron
from tessaron.core.types.column_types import parse_type
from tessaron.sinks.ddl.known_dialects import DIALECTS, dialect_named
from tests.golden import cases, made_of
from tests.harness import FolderTest, quick_command
from tests.mariadb import mariadb_database, needs_mariadb
from tests.postgres import needs_postgres, postgres_database

CALLS = [
    {
        "id": 1,
        "eta": "2026-01-02T03:04:05Z",
        "fee": 1.25,
        "ok": True,
        "stays": [{"berth": "N1", "moves": [{"teu": 2}]}],
        "note": "=1",
    }
]
# the type of a column; what SQLAlchemy says for it, in each dialect
TYPES = {
    "integer": (sa.BigInteger(), {"sqlite": sa.Integer()}), "decimal(9,2)": (sa.Numeric(9, 2), {}), "boolean": (sa.Boolean(), {"oracle": sa.Numeric(1, 0)}),
    "double": (sa.DOUBLE_PRECISION(), {"sqlite": sa.REAL(), "mysql": sa.Double(), "mariadb": sa.Double(), "oracle": oracle.BINARY_DOUBLE()}),
    "text": (sa.CLOB(), {"postgresql": sa.Text(), "sqlite": sa.Text(), "mysql": mysql.LONGTEXT(), "mariadb": mysql.LONGTEXT(), "sqlserver": mssql.NVARCHAR(None)}),
    "date": (sa.DATE(), {}), "uuid": (sa.CHAR(36), {"postgresql": postgresql.UUID(), "sqlserver": mssql.UNIQUEIDENTIFIER()}),
    "time(3)": (sa.TIME(), {"postgresql": postgresql.TIME(), "mysql": mysql.TIME(fsp=3), "mariadb": mysql.TIME(fsp=3), "sqlserver": mssql.TIME(3), "oracle": oracle.VARCHAR2(18)}),
    "timestamp(3)": (sa.TIMESTAMP(), {"postgresql": postgresql.TIMESTAMP(), "sqlite": sa.DATETIME(), "mysql": mysql.DATETIME(fsp=3), "mariadb": mysql.DATETIME(fsp=3), "sqlserver": mssql.DATETIME2(3)}),
    "timestamp_tz": (postgresql.TIMESTAMP(timezone=True), {"sqlite": sa.DATETIME(), "mysql": mysql.DATETIME(fsp=0), "mariadb": mysql.DATETIME(fsp=0), "sqlserver": mssql.DATETIMEOFFSET(0), "oracle": oracle.TIMESTAMP(timezone=True)}),
    "json": (sa.CLOB(), {"postgresql": sa.JSON(), "sqlite": sa.Text(), "mysql": mysql.JSON(), "mariadb": mysql.JSON(), "sqlserver": mssql.NVARCHAR(None)}),
}  # fmt: skip
SPOKEN = {
    "postgresql": postgresql.dialect(), "sqlite": sqlite.dialect(), "mysql": mysql.dialect(), "mariadb": mysql.dialect(is_mariadb=True),
    "sqlserver": mssql.dialect(), "oracle": oracle.dialect(), "ansi": DefaultDialect(),
}  # fmt: skip
PARSED_AS = {"sqlserver": "tsql", "mariadb": "mysql", "ansi": "postgres", "postgresql": "postgres"}


def statements(script):
    """Return the statements of a script, without remarks and commands of a shell."""
    lines = [
        re.sub(r"\s+-- [^'\"]*$", "", line)
        for line in script.splitlines()
        if not line.startswith(("--", "\\copy", ".import"))
    ]
    return [each.strip() for each in "\n".join(lines).split(";\n") if each.strip()]


class DialectsTest(unittest.TestCase):
    def test_types_are_those_of_sqlalchemy(self):
        for name, (usual, others) in TYPES.items():
            for dialect in DIALECTS:
                if (dialect, name) in (("oracle", "time(3)"), ("ansi", "timestamp_tz")):
                    # One has no type for it, of the other SQLAlchemy leaves the zone out.
                    continue
                with self.subTest(name, dialect=dialect):
                    wanted = SPOKEN[dialect].type_compiler_instance.process(others.get(dialect, usual))
                    self.assertEqual(dialect_named(dialect).type_of(parse_type(name)), wanted)

    def test_quotes_and_limits_are_those_of_sqlalchemy(self):
        for dialect in DIALECTS:
            with self.subTest(dialect):
                known, other = dialect_named(dialect), SPOKEN[dialect]
                for name in ("a", 'a"b', "a`b", "a]b", "select"):
                    self.assertEqual(known.quoted(name), other.identifier_preparer.quote_identifier(name))
                if dialect in ("postgresql", "sqlserver", "oracle"):
                    self.assertEqual(known.most_letters, other.max_identifier_length)

    def test_others_come_from_sqlalchemy(self):
        self.assertEqual(dialect_named("mssql").name, "sqlserver")
        with self.assertRaisesRegex(
            tessaron.UsageError, "expected a dialect of postgresql, sqlite, .* got 'none'"
        ):
            dialect_named("none")
        found = dialect_named("sqlite.pysqlite")
        self.assertEqual(
            (found.quoted('a"b'), found.type_of(parse_type("decimal(5,2)")), found.key_type("text")),
            ('"a""b"', "NUMERIC(5, 2)", "VARCHAR(32)"),
        )


class ScriptsTest(FolderTest):
    def export(self, source=CALLS, **options):
        tessaron.export(
            source, self.folder / "out", replace=True, format="csv", **{"name": "calls", **options}
        )
        return self.folder / "out"

    def test_every_dialect_can_be_parsed(self):
        folder = self.export()
        for dialect in DIALECTS:
            with self.subTest(dialect):
                made = statements(tessaron.ddl(folder, dialect))
                parsed = [
                    sqlglot.parse_one(each, dialect=PARSED_AS.get(dialect, dialect))
                    for each in made
                    if not each.startswith(("BULK", "LOAD"))
                ]
                self.assertEqual([each.find(sqlglot.exp.Table).name for each in parsed if each.key == "create" and each.kind == "TABLE"],
                                 ["calls", "calls_stays", "calls_stays_moves"])  # fmt: skip

    def test_order_keys_and_comments(self):
        text = tessaron.ddl(self.export(), schema="office")
        self.assertLess(
            text.index('CREATE TABLE "office"."calls" ('), text.index('CREATE TABLE "office"."calls_stays" (')
        )
        for expected in (
            'CREATE SCHEMA IF NOT EXISTS "office"', '"row_key" BIGINT NOT NULL', 'FOREIGN KEY ("parent_key") REFERENCES "office"."calls" ("row_key")',
            """COMMENT ON COLUMN "office"."calls_stays"."berth" IS '$.stays[*].berth';""", '"fee" NUMERIC(3, 2)', '"eta" TIMESTAMP WITH TIME ZONE',
            'CREATE INDEX "calls_stays_parent_key_index" ON "office"."calls_stays" ("parent_key")', "\\copy \"office\".\"calls\" (",
        ):  # fmt: skip
            self.assertIn(expected, text)
        layout = '[tables.t]\nrows = "$"\n[tables.t.columns]\na = { path = "$.a", type = "text", required = true }\nb = { path = "$.b", type = "text" }\n'
        text = tessaron.ddl(tessaron.Layout(layout), "sqlite")
        self.assertIn('"a" TEXT NOT NULL,  -- $.a\n  "b" TEXT,  -- $.b\n', text)
        self.assertNotIn(".import", text)

    def test_what_a_database_does_not_take_is_told_before(self):
        def layout(*columns):
            lines = "".join(
                f'{json.dumps(name)} = {{ path = "$.a", type = "{kind}" }}\n' for name, kind in columns
            )
            return tessaron.Layout(f'[tables.t]\nrows = "$"\n[tables.t.columns]\n{lines}')

        cases = (
            (layout(("ü" * 32, "text")), "postgresql", "has a name of 64 bytes; at most 63"), (layout(("x" * 65, "text")), "mysql", "65 letters; at most 64"),
            (layout(("at", "timestamp(9)")), "postgresql", "t.at has 9 digits of a second; 6 are kept"),
            (layout(*((f"c{number}", "text") for number in range(1_100))), "sqlserver", "1,101 columns; at most 1,024"),
        )  # fmt: skip
        for given, dialect, said in cases:
            with self.subTest(said), self.assertRaisesRegex(tessaron.UsageError, re.escape(said)):
                tessaron.ddl(given, dialect)
            self.assertIn(
                "CREATE TABLE", tessaron.ddl(given, "ansi") if "columns" in said else "CREATE TABLE"
            )

    def test_the_command(self):
        folder = self.export()
        done = quick_command("ddl", folder, "--dialect", "sqlite")
        self.assertEqual((done.returncode, done.stdout.decode()), (0, tessaron.ddl(folder, "sqlite")))
        self.assertEqual(
            quick_command("ddl", folder / "layout.toml", "-o", self.folder / "t.sql").returncode, 0
        )
        self.assertNotIn("\\copy", (self.folder / "t.sql").read_text())
        for arguments, said in (
            ((self.folder / "none",), "the layout cannot be read"), ((folder, "--dialect", "dbase"), "expected a dialect of"), ((self.folder,), "the layout cannot be read"),
            ((folder, "-o", "/proc/none/x.sql"), "/proc/none"),
        ):  # fmt: skip
            with self.subTest(said):
                done = quick_command("ddl", *arguments)
                self.assertEqual((done.returncode, said in done.stderr.decode()), (2, True), done.stderr)
        self.assertEqual(
            quick_command(
                "export", "-", "-o", self.folder / "x", "--dialect", "dbase", stdin=b"{}"
            ).returncode,
            2,
        )
        self.assertFalse((self.folder / "x").exists())

    def test_scripts_of_many_files_without_csv(self):
        tessaron.export(CALLS, self.folder / "p", name="calls")
        text = (self.folder / "p" / "load.sql").read_text()
        self.assertIn(
            "-- calls: calls.parquet is no plain CSV: `tessaron load FOLDER --to URL` loads it in any form",
            text,
        )

    @needs_postgres
    def test_psql_runs_every_script(self):
        with postgres_database() as url:
            for case in cases():
                with self.subTest(case.name):
                    made_of(case, self.folder / case.name)
                    schema = case.name
                    script = tessaron.ddl(self.folder / case.name, schema=schema)
                    done = subprocess.run(
                        ["psql", url, "-q", "-1", "-v", "ON_ERROR_STOP=1"],
                        input=script.encode(),
                        cwd=self.folder / case.name,
                        capture_output=True,
                        check=False,
                    )
                    self.assertEqual(done.returncode, 0, done.stderr)
                    engine = sa.create_engine(url.replace("postgresql", "postgresql+psycopg", 1))
                    with engine.connect() as connection:
                        for table in json.loads((self.folder / case.name / "receipt.json").read_text())[
                            "tables"
                        ]:
                            count = connection.execute(
                                sa.text(f'SELECT count(*) FROM "{schema}"."{table["name"]}"')
                            ).scalar()
                            self.assertEqual(count, table["rows"])
                    engine.dispose()

    @needs_mariadb
    def test_mariadb_runs_every_script(self):
        with mariadb_database() as url:
            engine = sa.create_engine(url)
            for case in cases():
                with self.subTest(case.name), engine.begin() as connection:
                    connection.execute(
                        sa.text(f"CREATE OR REPLACE DATABASE {case.name} CHARACTER SET utf8mb4")
                    )
                    made_of(case, self.folder / case.name)
                    socket = engine.url.query["unix_socket"]
                    done = subprocess.run(
                        [
                            "mariadb",
                            "--no-defaults",
                            "-u",
                            "root",
                            "-S",
                            socket,
                            "--local-infile=1",
                            case.name,
                        ],
                        input=tessaron.ddl(self.folder / case.name, "mariadb").encode(),
                        cwd=self.folder / case.name,
                        capture_output=True,
                        check=False,
                    )
                    self.assertEqual(done.returncode, 0, done.stderr)
                    for table in json.loads((self.folder / case.name / "receipt.json").read_text())["tables"]:
                        query = f"SELECT count(*) FROM `{case.name}`.`{table['name']}`"
                        self.assertEqual(connection.execute(sa.text(query)).scalar(), table["rows"])
                    for statement in ("SET foreign_key_checks = 0", f"DROP DATABASE {case.name}"):
                        connection.execute(sa.text(statement))
            engine.dispose()

    def test_sqlite_runs_every_script(self):
        shell = shutil.which("sqlite3")
        for case in cases():
            with (
                self.subTest(case.name),
                closing(sqlite3.connect(self.folder / f"{case.name}.db")) as database,
            ):
                made_of(case, self.folder / case.name)
                script = tessaron.ddl(self.folder / case.name, "sqlite")
                if shell is None:
                    for statement in statements(script):
                        database.execute(statement)
                    continue
                done = subprocess.run(
                    [shell, "-bail", self.folder / f"{case.name}.db"],
                    input=script.encode(),
                    cwd=self.folder / case.name,
                    capture_output=True,
                    check=False,
                )
                self.assertEqual((done.returncode, done.stderr), (0, b""))
                for table in json.loads((self.folder / case.name / "receipt.json").read_text())["tables"]:
                    self.assertEqual(
                        database.execute(f'SELECT count(*) FROM "{table["name"]}"').fetchone()[0],
                        table["rows"],
                    )
                self.assertEqual(database.execute("PRAGMA foreign_key_check").fetchall(), [])


if __name__ == "__main__":
    unittest.main()
