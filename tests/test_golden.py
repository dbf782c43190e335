"""What small documents become, letter by letter; `python -m tests.golden` makes it anew."""

import tessaron
from tests.golden import cases, made_of, source_of
from tests.harness import FolderTest


class GoldenTest(FolderTest):
    def test_each_folder_is_what_it_was(self):
        self.assertGreaterEqual(len(cases()), 12)
        for case in cases():
            with self.subTest(case.name):
                kept = {path.name: path.read_bytes().decode() for path in sorted((case / "out").iterdir())}
                target = self.folder / case.name
                self.assertEqual(made_of(case, target), kept)
                self.assertTrue(tessaron.verify(target, source_of(case)).passed)
