"""Paths: JSONPath as RFC 9535 has it, I-Regexp as RFC 9485 has it, and how paths are printed."""

import re
import time
import unittest
from typing import ClassVar

from hypothesis import given, settings
from hypothesis import strategies as st

from tessaron.core.base.errors import UsageError
from tessaron.core.base.parsed_values import NumberText
from tessaron.core.base.paths import (
    ELEMENT,
    ENTRY,
    MARKUP,
    Origin,
    format_location,
    format_path,
    is_markup,
    name_of_step,
    show_path,
    step_of_name,
)
from tessaron.core.query.iregexp import parse_iregexp
from tessaron.core.query.jsonpath import parse_path

LETTERS = ["a", "b", "c", "d", "e", "f", "g"]
QUOTED = {"o": {"j j": {"k.k": 3}}, "'": {"@": 2}}
SMALL = {"o": {"j": 1, "k": 2}, "a": [5, 3]}
DEEP = {"o": {"j": 1, "k": 2}, "a": [5, 3, [{"j": 4}, {"k": 6}]]}
NULLS = {"a": None, "b": [None], "c": [{}], "null": 1}
MIXED = {
    "a": [3, 5, 1, 2, 4, 6, {"b": "j"}, {"b": "k"}, {"b": {}}, {"b": "kilo"}],
    "o": {"p": 1, "q": 2, "r": 3, "s": 5, "t": {"u": 6}},
    "e": "f",
}


def values(path, document):
    return [match.value for match in parse_path(path).find(document)]


class StandardTest(unittest.TestCase):
    """The example tables of RFC 9535, by section."""

    TABLES: ClassVar = {
        "2.3.1": (QUOTED, {"$.o['j j']": [{"k.k": 3}], "$.o['j j']['k.k']": [3], '$.o["j j"]["k.k"]': [3], """$["'"]["@"]""": [2]}),
        "2.3.2": (SMALL, {"$[*]": [SMALL["o"], SMALL["a"]], "$.o[*]": [1, 2], "$.o[*, *]": [1, 2, 1, 2], "$.a[*]": [5, 3]}),
        "2.3.3": (["a", "b"], {"$[1]": ["b"], "$[-2]": ["a"]}),
        "2.3.4": (LETTERS, {"$[1:3]": ["b", "c"], "$[5:]": ["f", "g"], "$[1:5:2]": ["b", "d"], "$[5:1:-2]": ["f", "d"], "$[::-1]": LETTERS[::-1], "$[ 1 : 5 : 2 ]": ["b", "d"], "$[::0]": []}),
        "2.3.5": (
            MIXED,
            {
                "$.a[?@.b == 'kilo']": [{"b": "kilo"}],
                "$.a[?(@.b == 'kilo')]": [{"b": "kilo"}],
                "$.a[?@>3.5]": [5, 4, 6],
                "$.a[?@.b]": MIXED["a"][6:],
                "$[?@.*]": [MIXED["a"], MIXED["o"]],
                "$[?@[?@.b]]": [MIXED["a"]],
                "$.o[?@<3, ?@<3]": [1, 2, 1, 2],
                "$.a[?@<2 || @.b == \"k\"]": [1, {"b": "k"}],
                "$.a[?match(@.b, \"[jk]\")]": [{"b": "j"}, {"b": "k"}],
                "$.a[?search(@.b, \"[jk]\")]": [{"b": "j"}, {"b": "k"}, {"b": "kilo"}],
                "$.o[?@>1 && @<4]": [2, 3],
                "$.o[?@.u || @.x]": [{"u": 6}],
                "$.a[?@.b == $.x]": [3, 5, 1, 2, 4, 6],
                "$.a[?@ == @]": MIXED["a"],
                "$.a[?!@.b]": [3, 5, 1, 2, 4, 6],
                "$.a[?!(@ > 1 || @.b)]": [1],
            },
        ),
        "2.5.1": (LETTERS, {"$[0, 3]": ["a", "d"], "$[0:2, 5]": ["a", "b", "f"], "$[0, 0]": ["a", "a"]}),
        "2.5.2": (
            DEEP,
            {
                "$..j": [1, 4],
                "$..[0]": [5, {"j": 4}],
                "$..o": [{"j": 1, "k": 2}],
                "$.o..[*, *]": [1, 2, 1, 2],
                "$.a..[0, 1]": [5, 3, {"j": 4}, {"k": 6}],
                "$..*": [DEEP["o"], DEEP["a"], 1, 2, 5, 3, DEEP["a"][2], {"j": 4}, {"k": 6}, 4, 6],
            },
        ),
        "2.6": (NULLS, {"$.a": [None], "$.a[0]": [], "$.a.d": [], "$.b[0]": [None], "$.b[*]": [None], "$.b[?@]": [None], "$.b[?@==null]": [None], "$.c[?@.d==null]": [], "$.null": [1]}),
    }  # fmt: skip

    def test_tables(self):
        for section, (document, cases) in self.TABLES.items():
            for path, expected in cases.items():
                with self.subTest(section=section, path=path):
                    self.assertEqual(values(path, document), expected)

    def test_comparisons(self):
        document = [{"obj": {"x": "y"}, "arr": [2, 3]}]
        cases = {
            "@.absent1 == @.absent2": True, "@.absent1 <= @.absent2": True, "@.absent == 'g'": False,
            "@.absent1 != @.absent2": False, "@.absent != 'g'": True, "1 <= 2": True, "1 > 2": False,
            "13 == '13'": False, "'a' <= 'b'": True, "'a' > 'b'": False, "@.obj == @.arr": False,
            "@.obj != @.arr": True, "@.obj == @.obj": True, "@.obj != @.obj": False, "@.arr == @.arr": True,
            "@.obj == 17": False, "@.obj != 17": True, "@.obj <= @.arr": False, "@.obj < @.arr": False,
            "@.obj <= @.obj": True, "@.arr <= @.arr": True, "1 <= @.arr": False, "1 >= @.arr": False,
            "1 > @.arr": False, "1 < @.arr": False, "true <= true": True, "true > true": False,
            "1 == true": False, "0 == false": False, "1 == 1.0": True, "1e2 == 100": True, "-0 == 0": True,
            "null == @.absent": False, "1.5 > 1": True, "@.arr == $[0].arr": True,
        }  # fmt: skip
        for condition, expected in cases.items():
            with self.subTest(condition):
                self.assertEqual(values(f"$[?{condition}]", document) == document, expected)

    def test_numbers_are_compared_exactly(self):
        document = [NumberText("0.1"), NumberText("1E400"), NumberText("12345678901234567890"), 2**62]
        cases = {
            "@ == 0.10": document[:1],
            "@ > 1e399": document[1:2],
            "@ == 12345678901234567890": document[2:3],
            "@ > 4611686018427387903": document[1:],
        }
        for condition, expected in cases.items():
            with self.subTest(condition):
                self.assertEqual(values(f"$[?{condition}]", document), expected)

    def test_functions(self):
        document = {"a": "héé", "l": [1, 2], "o": {"x": 1}, "n": 4, "u": "😀"}
        cases = {
            "length(@) == 3": ["héé"],
            "length(@) == 2": [[1, 2]],
            "length(@) == 1": [{"x": 1}, "😀"],
            "length(@) == value(@.absent)": [4],
            "count(@.*) == 2": [[1, 2]],
            "count(@.*) > 0": [[1, 2], {"x": 1}],
            "value(@.*) == 1": [{"x": 1}],
            "match(@, 'h.+')": ["héé"],
            "match(@, 'h')": [],
            "search(@, 'é')": ["héé"],
            "match(@, '(')": [],
            "match(@, 1)": [],
        }
        for condition, expected in cases.items():
            with self.subTest(condition):
                self.assertEqual(values(f"$[?{condition}]", document), expected)

    def test_normalized_paths(self):
        cases = (
            ("$.a", {"a": 1}, "$['a']"),
            ("$[-3]", [0] * 5, "$[2]"),
            ("$.a.b[1:2]", {"a": {"b": [1, 2]}}, "$['a']['b'][1]"),
            ('$["\\u000B"]', {"\x0b": 1}, "$['\\u000b']"),
            ("$['\\'']", {"'": 1}, "$['\\'']"),
            ("$..[?@ == 7]", {"a": [{"b\n": 7}]}, "$['a'][0]['b\\n']"),
        )
        for path, document, expected in cases:
            with self.subTest(path):
                (match,) = parse_path(path).find(document)
                self.assertEqual(format_location(match.location), expected)
                self.assertEqual(values(expected, document), [match.value])


class SpellingTest(unittest.TestCase):
    DOCUMENT: ClassVar = {"a": [{"b": 1}, {"b": 2, "c d": [5, 6, 7]}], "e": {"b": 3}, "'": 9}

    def test_matches(self):
        cases = {
            "$.a[*].b": [1, 2],
            "$.a[0]": [{"b": 1}],
            "$.a[-1].b": [2],
            "$.a[5]": [],
            "$..b": [3, 1, 2],
            "$['a'][1]['c d'][0:2]": [5, 6],
            '$.a[1]["c d"][::-1]': [7, 6, 5],
            "$.a[1]['c d'][1:]": [6, 7],
            "$.a[1]['c d'][::0]": [],
            "$.a[1]['c d'][0, 2, 0]": [5, 7, 5],
            "$ .e .*": [3],
            "$['\\'']": [9],
            "$['\\u0027']": [9],
            "$.e[*]": [3],
            "$..[1]": [self.DOCUMENT["a"][1], 6],
        }
        for text, expected in cases.items():
            with self.subTest(text):
                found = [match.value for match in parse_path(text).find(self.DOCUMENT)]
                self.assertEqual(sorted(map(str, found)), sorted(map(str, expected)))

    def test_plain_ways(self):
        cases = {
            "$.a.b[*]": ("a", "b"),
            "$[*]": (),
            "$.a.*": ("a",),
            "$": None,
            "$.a": None,
            "$..a[*]": None,
            "$[0][*]": None,
        }
        for text, names in cases.items():
            with self.subTest(text):
                self.assertEqual(parse_path(text).plain_names(), names)

    def test_faults_point_at_the_character(self):
        cases = {
            "": 1, "a": 1, "$a": 2, "$.": 3, "$.1": 3, "$[": 3, "$['a": 5, "$['a'": 6, "$[a]": 3,
            "$['\\q']": 5, "$[1 2]": 5, " $": 1, "$ ": 2, "$. a": 3, "$.. a": 4, "$[01]": 3, "$[-0]": 3,
            "$[9007199254740992]": 3, "$['\\ud800']": 6, "$['\\ud800\\u0041']": 12, "$[\"a\\'\"]": 6,
            "$[?@.a==]": 9, "$[?true]": 4, "$[?@.*==1]": 4, "$[?length(@)]": 4, "$[?length(@.*)<3]": 11,
            "$[?count(1)==1]": 10, "$[?count(foo(@.*))==1]": 10, "$[?match(@.a,'b')==true]": 4,
            "$[?value(@..a)]": 4, "$[?match(@.a)]": 4, "$[?match(@,'a','b')]": 4, "$[?(@.a)==1]": 9,
            "$[?!@.a==1]": 8, "$[?@.a==1==1]": 10, "$[?1==01]": 7, "$[?@.a=='b]": 12, "$[?length (@)<1]": 4,
            "$[?@.a && ]": 11, "$[?(@.a]": 8, "$['\n']": 4, "$[1:2:3:4]": 8, "$[?'a']": 4,
        }  # fmt: skip
        for text, character in cases.items():
            with self.subTest(text), self.assertRaisesRegex(UsageError, f"character {character}: expected"):
                parse_path(text)

    @settings(max_examples=240, deadline=None)
    @given(st.lists(st.sampled_from(["$", "@", ".", "..", "[", "]", "?", "*", "'a'", "a", "1", "-", ":", ",", "(", ")", "==", "<", "&&", "||", "!", "count", "match", " ", "true"]), max_size=14))  # fmt: skip
    def test_any_text_is_a_path_or_refused(self, parts):
        try:
            path = parse_path("$" + "".join(parts))
        except UsageError:
            return
        self.assertIsInstance(list(path.find(MIXED)), list)

    def test_hostile_paths(self):
        for text in (
            "$[?" + "(" * 5_000,
            "$[?" + "count(" * 5_000,
            "$[?@" + "[?@" * 5_000,
            "$[?" + "!(" * 5_000,
        ):
            with self.subTest(text[:10]), self.assertRaisesRegex(UsageError, "at most 100"):
                parse_path(text)
        self.assertEqual(values("$" + ".a" * 20_000, {"a": 1}), [])
        deep = [7]
        for _ in range(5_000):
            deep = [deep]
        self.assertEqual(values("$..[?@ == 7]", deep), [7])

    def test_printed(self):
        cases = {
            (): "$",
            ("a", ELEMENT, "b c", ENTRY): "$.a[*]['b c'].*",
            ("it's", "\n"): "$['it\\'s']['\\n']",
            ("a", ENTRY, Origin.KEY): "key of $.a.*",
        }
        for path, text in cases.items():
            with self.subTest(text):
                self.assertEqual(format_path(path), text)
        long = ("a", "b") * 2_500
        self.assertEqual(format_path(long), "$" + ".a.b" * 2_500)
        self.assertEqual(show_path(long), "$" + ".a.b" * 49 + ".a…(4,901 more steps)")
        self.assertEqual(show_path((*long, Origin.KEY))[:8], "key of $")
        markup = (MARKUP + "x",) * 150
        self.assertEqual(show_path(markup), "/".join("x" * 100) + "/…(50 more steps)")

    def test_names_of_any_letters_are_steps_of_their_own(self):
        names = ["a", "\x1fa", "\x1f\x1fa", "\x1f", "", "\ud800", "\\ud800", "\\\ud800", "\\\\ud800", "\\udzzz", "\\u00e9",
                 "a\udfffb", "ud800", "\\", "\ud83d\\ude00", "\x1f\ud800"]  # fmt: skip
        steps = [step_of_name(name) for name in names]
        self.assertEqual(len(set(steps)), len(names))
        for name, step in zip(names, steps, strict=True):
            with self.subTest(ascii(name)):
                step.encode()
                self.assertEqual(name_of_step(step), name)
                self.assertFalse(is_markup((step,)))

    @given(
        st.text(st.sampled_from("\\ud8f0\x1f\ud800\udfff"), max_size=12),
        st.text(st.sampled_from("\\ud80\x1f\ud800"), max_size=8),
    )
    def test_steps_are_told_apart(self, one, other):
        self.assertEqual(name_of_step(step_of_name(one)), one)
        self.assertEqual(one == other, step_of_name(one) == step_of_name(other))


class PatternTest(unittest.TestCase):
    def test_whole_and_part(self):
        cases = (
            ("a.c", "abc", True, True),
            ("a.c", "a\nc", False, False),
            ("a.c", "xabcx", False, True),
            ("[^0-9]+", "ab", True, True),
            ("a{2,3}", "aaaa", False, True),
            ("a{2,}", "aaaa", True, True),
            ("(ab){3}", "ababab", True, True),
            ("a|b*", "bbb", True, True),
            ("", "x", False, True),
            ("[a-c-]", "-", True, True),
            ("[-a]", "-", True, True),
            (r"\p{Lu}x?", "Äx", True, True),
            (r"\P{L}", "Ä", False, False),
            (r"[\p{Nd}\-]+", "1-2", True, True),
            (r"\.\n", ".\n", True, True),
            ("^a$", "a", False, False),
            ("^a$", "^a$", True, True),
        )
        for pattern, text, whole, part in cases:
            with self.subTest(pattern=pattern, text=text):
                found = parse_iregexp(pattern)
                self.assertEqual((found.matches(text), found.occurs_in(text)), (whole, part))

    def test_what_is_no_pattern(self):
        for pattern in ("(", ")", "a)", "*", "a**", "a{1", "a{2,1}", "[]", "[a", "[b-a]", r"\d", r"\p{Lx}", "]", "}", "a{,2}", "x*?", "[[]", r"\u0041", "(?:a)"):  # fmt: skip
            with self.subTest(pattern):
                self.assertIsNone(parse_iregexp(pattern))

    def test_too_large(self):
        for pattern in ("((a{1,200}){1,200}){1,200}", "a{99999999999}", "(" * 500):
            with self.subTest(pattern[:20]), self.assertRaises(UsageError):
                parse_iregexp(pattern)

    def test_no_pattern_is_slow(self):
        """Backtracking would take longer than the world has lasted; each is done in the blink of an eye."""
        for pattern, text in (
            ("(a+)+b", "a" * 5_000),
            ("(a|a)*c", "a" * 5_000),
            (".*(x|y){1,200}z", "x" * 2_000),
        ):
            with self.subTest(pattern):
                start = time.process_time()
                self.assertFalse(parse_iregexp(pattern).matches(text))
                self.assertLess(time.process_time() - start, 20)

    @settings(max_examples=180, deadline=None)
    @given(
        st.recursive(
            st.sampled_from(["a", "b", ".", "[ab]", "[^a]"]),
            lambda inner: st.lists(inner, min_size=1, max_size=3).map("".join)
            | st.tuples(inner, inner).map(lambda pair: f"({pair[0]}|{pair[1]})")
            | st.tuples(inner, st.sampled_from(["*", "+", "?", "{2}", "{1,2}", "{0,}"])).map(lambda pair: f"({pair[0]}){pair[1]}"),
            max_leaves=6,
        ),
        st.text("abc", max_size=6),
    )  # fmt: skip
    def test_agrees_with_another_engine(self, pattern, text):
        found = parse_iregexp(pattern)
        self.assertEqual(found.matches(text), re.fullmatch(pattern, text) is not None)
        self.assertEqual(found.occurs_in(text), re.search(pattern, text) is not None)
