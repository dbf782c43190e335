"""Archives as sources: zip and tar, packed or not, inside each other, broken, locked, hostile."""

import gzip
import io
import json
import os
import tarfile
import zipfile
from unittest import mock

import tessaron
from tessaron.sources.forms.limits import EXPANSION_VARIABLE
from tests.harness import FolderTest, command, quick_command

FILES = {
    "day_1/a1.json": b'{"call":1}\n', "day_1/a2.json": b'{"call":2}\n', "day_1/a10.ndjson": b'{"call":10}\n{"call":11}\n',
    "day_2/b.json.gz": gzip.compress(b'{"call":20}'), "readme.txt": b"not a document", "__MACOSX/day_1/._a1.json": b"\x00\x05",
}  # fmt: skip
CALLS = [1, 2, 10, 11, 20]


def zipped(files, **options):
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED, **options) as archive:
        archive.mkdir("day_3")
        for name, data in files.items():
            archive.writestr(name, data)
    return made.getvalue()


def tarred(files, mode="w"):
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode=mode) as archive:
        link = tarfile.TarInfo("day_1/link.json")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
        archive.addfile(link)
        for name, data in files.items():
            info = tarfile.TarInfo(f"./{name}")
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return made.getvalue()


PACKED = {
    "calls.zip": zipped(FILES), "calls.tar": tarred(FILES), "calls.tgz": tarred(FILES, "w:gz"), "calls.tar.bz2": tarred(FILES, "w:bz2"),
    "calls.tar.xz": tarred(FILES, "w:xz"),
}  # fmt: skip


class ArchivesTest(FolderTest):
    def calls(self, source, **options):
        return [row["call"] for row in next(iter(tessaron.shred(source, **options).values())).to_pylist()]

    def test_every_member_is_a_source(self):
        for name, data in PACKED.items():
            with self.subTest(name):
                path = self.write(name, data)
                self.assertEqual(self.calls(path), CALLS)
                self.assertEqual(self.calls(str(path)), CALLS)
                self.assertEqual(self.calls(data), CALLS)
                with path.open("rb") as stream:
                    self.assertEqual(self.calls(stream), CALLS)
                receipt = tessaron.export(path, self.folder / "out", replace=True)
                self.assertEqual(
                    [each.name.removeprefix(f"{path}/") for each in receipt.sources][:3],
                    ["day_1/a1.json", "day_1/a2.json", "day_1/a10.ndjson"],
                )
                said = [note.text for note in receipt.notes]
                self.assertIn("1 other file in this archive passed over: readme.txt", said)
                self.assertEqual(quick_command("verify", self.folder / "out").returncode, 0)

    def test_from_standard_input(self):
        for name, data in PACKED.items():
            with self.subTest(name):
                done = command("find", "-", "$.call", stdin=data)
                self.assertEqual(done.stdout.split(), [str(call).encode() for call in CALLS], done.stderr)

    def test_a_member_or_a_folder_of_it_is_a_source(self):
        path = self.write("calls.zip", PACKED["calls.zip"])
        for inside, expected in (
            ("day_1", [1, 2, 10, 11]),
            ("day_1/a2.json", [2]),
            ("day_2/b.json.gz", [20]),
        ):
            with self.subTest(inside):
                self.assertEqual(self.calls(path / inside), expected)
        members = [path / "day_2/b.json.gz", path / "day_1/a2.json"]
        self.assertEqual(self.calls(members), [20, 2])

    def test_archives_in_folders_and_in_archives(self):
        inner = {"one.zip": PACKED["calls.zip"], "two.tgz": PACKED["calls.tgz"], "z.json": b'{"call":99}'}
        path = self.write("all.zip", zipped(inner))
        self.assertEqual(sorted(self.calls(path)), sorted([*CALLS, *CALLS, 99]))
        self.assertEqual(self.calls(path / "two.tgz/day_1/a1.json"), [1])
        deeper = self.write("deeper/deep.tar", tarred({"all.zip": zipped(inner)}))
        self.assertEqual(self.calls(deeper), [99])
        self.write("folder/calls.zip", PACKED["calls.zip"])
        self.write("folder/x.json", b'{"call":7}')
        self.assertEqual(self.calls(self.folder / "folder"), [7, *CALLS])
        self.assertEqual(self.calls(str(self.folder / "folder" / "*.zip")), CALLS)

    def test_xml_in_archives_and_both_kinds(self):
        path = self.write("m.zip", zipped({"a.xml": b"<c><no>1</no></c>", "b.xml": b"<c><no>2</no></c>"}))
        self.assertEqual([row["no"] for row in tessaron.shred(path, records="/*")["c"].to_pylist()], [1, 2])
        path = self.write("both.zip", zipped({"a.xml": b"<c/>", "b.json": b"{}"}))
        with self.assertRaisesRegex(
            tessaron.SourceError, r"1 JSON files and 1 XML files in this archive; say which"
        ):
            tessaron.shred(path)
        path = self.write("none.zip", zipped({"a.txt": b"x"}))
        with self.assertRaisesRegex(tessaron.SourceError, "no JSON or XML file in this archive"):
            tessaron.shred(path)

    def test_what_is_broken_is_told_with_its_name(self):
        damaged = bytearray(zipped({"a.json": json.dumps(list(range(9000))).encode()}))
        damaged[200:260] = bytes(60)
        cases = (
            ("cut.zip", PACKED["calls.zip"][:300], tessaron.DataError, "broken or cut off"),
            ("cut.tar", PACKED["calls.tar"][:1100], tessaron.DataError, "broken or cut off"),
            ("cut.tgz", PACKED["calls.tgz"][:120], tessaron.DataError, "broken or cut off"),
            ("damaged.zip", bytes(damaged), tessaron.DataError, "broken or cut off|a.json"),
            ("none.zip", b"", tessaron.DataError, "empty|no record|nothing"),
            ("text.zip", b"no archive", tessaron.DataError, "expected a value"),
        )  # fmt: skip
        for name, data, kind, said in cases:
            with self.subTest(name):
                path = self.write(name, data)
                with self.assertRaisesRegex(kind, said) as caught:
                    tessaron.shred(path)
                self.assertIn(name, str(caught.exception))
        with self.assertRaisesRegex(tessaron.SourceError, "has no member day_9"):
            tessaron.shred(self.write("calls.zip", PACKED["calls.zip"]) / "day_9/x.json")

    def test_locked_members_are_refused(self):
        data = bytearray(zipped({"a.json": b'{"call":1}'}))
        for magic, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
            data[data.rindex(magic) + at] |= 1
        with self.assertRaisesRegex(tessaron.SourceError, "a.json: is encrypted"):
            tessaron.shred(self.write("locked.zip", bytes(data)))

    def test_bombs_meet_the_limits(self):
        bomb = b'{"a":"' + b" " * 3_000_000 + b'"}'
        with (
            mock.patch.dict(os.environ, {EXPANSION_VARIABLE: "20"}),
            mock.patch("tessaron.sources.forms.encodings.FREE_BYTES", 100_000),
        ):
            for name, data in (
                ("b.zip", zipped({"a.json": bomb})), ("b.tgz", tarred({"a.json": bomb}, "w:gz")), ("n.zip", zipped({"b.zip": zipped({"a.json": bomb})})),
            ):  # fmt: skip
                with (
                    self.subTest(name),
                    self.assertRaisesRegex(tessaron.SourceError, "comes out as more than 20 times"),
                ):
                    tessaron.shred(self.write(name, data))

    def test_nothing_is_written_under_the_names_of_members(self):
        path = self.write(
            "in/evil.zip", zipped({"../../evil.json": b'{"call":1}', "/tmp/evil.json": b'{"call":2}'})
        )
        self.assertEqual(sorted(self.calls(path)), [1, 2])
        self.assertEqual(sorted(each.name for each in self.folder.rglob("*")), ["evil.zip", "in"])
