"""Every input that fuzzing began with, or that once made something fail, is tried again."""

import importlib.util
import sys
import unittest
from pathlib import Path

from tests.harness import needs_compiled

FUZZ = Path(__file__).parent.parent / "fuzz"


def load_targets():
    spec = importlib.util.spec_from_file_location("fuzz_targets", FUZZ / "targets.py")
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    return module.TARGETS


class FuzzedTest(unittest.TestCase):
    @needs_compiled
    def test_seeds_and_finds(self):
        for name, (target, seeds) in load_targets().items():
            finds = sorted(FUZZ.glob(f"found/{name}/*"))
            for data in (*seeds, b"", *(path.read_bytes() for path in finds)):
                with self.subTest(name, data=data[:60]):
                    target(data)


if __name__ == "__main__":
    unittest.main()
