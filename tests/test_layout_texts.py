"""The text of layout files under change: the lines of a table, columns below each other, comments that stay."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron
from tessaron import Layout, UsageError
from tessaron.core.layout.texts.table_blocks import block_of, has_block, without_table
from tessaron.core.layout.texts.tidying import tidied
from tessaron.decide.drafting_run import draft
from tessaron.sources.demo.vessel_calls import iter_calls

TEXT = """\
# The head of the file.
[reading]
keys = "sequence"

# all calls
# twice remarked
[tables.calls]  # and beside
rows = "$"
[tables.calls.columns]
id  = { path = "$.id", type = "text" }  # always
due = { path = "$.due", type = "date", nulls = ["-", "#"] }

# of stays

[ tables . "stays at" ]
rows = "$.stays[*]"
[tables.'stays at'.columns]
berth = { path = "@.berth", type = "text" }
"""
PARTS = {
    "calls": '# all calls\n# twice remarked\n[tables.calls]  # and beside\nrows = "$"\n[tables.calls.columns]\n'
    'id  = { path = "$.id", type = "text" }  # always\ndue = { path = "$.due", type = "date", nulls = ["-", "#"] }\n\n# of stays\n',
    "stays at": '[ tables . "stays at" ]\nrows = "$.stays[*]"\n[tables.\'stays at\'.columns]\nberth = { path = "@.berth", type = "text" }\n',
}


class BlocksTest(unittest.TestCase):
    def test_the_lines_of_a_table_go_from_its_comments_to_the_next_header(self):
        for name, block in PARTS.items():
            with self.subTest(name):
                self.assertEqual(block_of(TEXT, name), block)
                self.assertTrue(has_block(TEXT, name))
        self.assertFalse(has_block(TEXT, "stays"))
        with self.assertRaisesRegex(UsageError, "no table 'cals' in the layout; did you mean calls"):
            block_of(TEXT, "cals")

    def test_without_a_table_the_rest_stands_as_it_was(self):
        text = draft(list(iter_calls(20)), name="calls").text
        for name in Layout(text).tables[1:]:
            with self.subTest(name):
                left = without_table(text, name)
                lost = [line for line in text.splitlines() if line not in left.splitlines()]
                self.assertEqual([line for line in lost if line not in block_of(text, name)], [])
                self.assertNotIn("\n\n\n", left)
                self.assertEqual(set(Layout(text).tables) - set(Layout(left).tables), {name})

    def test_a_table_taken_out_and_put_back_is_the_same_layout(self):
        text = draft(list(iter_calls(20)), name="calls").text
        for name in Layout(text).tables[1:]:
            with self.subTest(name):
                again = f"{without_table(text, name)}\n{block_of(text, name)}"
                self.assertEqual(
                    Layout(again).part.tables.items() ^ Layout(text).part.tables.items()
                    if False
                    else dict(Layout(again).part.tables),
                    dict(Layout(text).part.tables),
                )

    def test_tables_written_in_another_form_of_toml_are_removed_too(self):
        text = 'tables.a.rows = "$"\ntables.a.columns.x = { path = "$.x", type = "text" }\ntables.b.rows = "$.b[*]"\n'
        self.assertEqual(Layout(text).remove_table("b").tables, ("a",))


class TidiedTest(unittest.TestCase):
    def test_new_columns_stand_as_the_others_do_and_these_stay(self):
        head = '[tables.a]\nrows = "$"\n[tables.a.columns]\n'
        other = (
            '\n[tables.b]\nrows = "$.b[*]"\n[tables.b.columns]\nmy_own  =  { path = "@" }   # as I like it\n'
        )
        for before, now, wanted in (
            (
                'x = { path = "$.x" }',
                'x = { path = "$.x" }\nlonger = {path = "$.y"}',
                'x = { path = "$.x" }\nlonger = { path = "$.y" }',
            ),
            (
                'longer = { path = "$.x" }',
                'longer = { path = "$.x" }\ny = {path = "$.y"}',
                'longer = { path = "$.x" }\ny      = { path = "$.y" }',
            ),
            (
                'longer = { path = "$.x" }   # r',
                'longer = { path = "$.x" }   # r\ny = {path = "$"} # s',
                'longer = { path = "$.x" }   # r\ny      = { path = "$" }     # s',
            ),
            (
                'x = { path = "$.x" }',
                'x = { path = "$.x" } # r\nyy = {path = "$.y"}',
                'x  = { path = "$.x" }                     # r\nyy = { path = "$.y" }',
            ),
            (
                'x = { path = "$.x" }',
                'x = {path = "$.x", nulls = ["}", "#"]}',
                'x = { path = "$.x", nulls = ["}", "#"] }',
            ),
            (
                'x = { path = "$.x" }',
                'x = {path = "$.x", replace = {a = "b"}}',
                'x = { path = "$.x", replace = {a = "b"} }',
            ),
            # What is no line of a column leaves all of them as they are.
            (
                'x = { path = "$.x" }',
                'x.path = "$.x"\nlonger = {path = "$.y"}',
                'x.path = "$.x"\nlonger = {path = "$.y"}',
            ),
        ):
            with self.subTest(now):
                made = tidied(f"{head}{before}\n{other}", f"{head}{now}\n{other}")
                self.assertEqual(made, f"{head}{wanted}\n{other}")

    def test_blank_lines_that_an_edit_leaves_above_headers_go(self):
        before = '# why\n[tables.a]\nrows = "$"\n[tables.a.columns]\nx = { path = "$.x" }\n'
        now = '# why\n\n[tables.b]\nrows = "$"\nkeep = "true"\n\n[tables.b.columns]\nx = { path = "$.x" }\n'
        self.assertIn('# why\n[tables.b]\nrows = "$"\nkeep = "true"\n', tidied(before, now))
        self.assertEqual(tidied(now, now), now, "blank lines that were there stay")

    @settings(max_examples=12, deadline=None)
    @given(
        st.lists(
            st.sampled_from(["call_id", "status", "eta", "remarks", "vessel_name"]), unique=True, max_size=4
        ),
        st.text("abc_", min_size=1, max_size=20),
    )
    def test_whatever_is_changed_means_the_same_tidied(self, gone, name):
        layout = LAYOUT.remove_columns("calls", *gone)
        if f"n{name}" not in layout.columns("calls"):
            layout = layout.set_column("calls", f"n{name}", path="$.eta", type="text")
        text = tidied(LAYOUT.text, layout.text)
        self.assertEqual(Layout(text).part, layout.part)
        self.assertEqual(tidied(LAYOUT.text, text), text)
        kept = [line for line in LAYOUT.text.splitlines() if line in layout.text.splitlines()]
        self.assertEqual([line for line in kept if line not in text.splitlines()], [])
        remarks = {column: layout.remark("calls", column) for column in layout.columns("calls")}
        self.assertEqual({column: Layout(text).remark("calls", column) for column in remarks}, remarks)


class RemarksTest(unittest.TestCase):
    def test_comments_beside_columns_are_read_and_set(self):
        self.assertEqual(LAYOUT.remark("calls", "call_id"), 'always; e.g. "BRW-0000001"')
        changed = LAYOUT.set_remark("calls", "call_id", "our number")
        self.assertEqual(changed.remark("calls", "call_id"), "our number")
        self.assertEqual(changed.part, LAYOUT.part)
        for table, column in (("calls", "nope"), ("nope", "call_id")):
            with self.subTest(table), self.assertRaises(UsageError):
                LAYOUT.remark(table, column)

    def test_a_column_added_behind_comments_of_the_next_table_stands_before_them(self):
        text = LAYOUT.set_column("calls", "extra", path="$.eta", type="text").text
        self.assertLess(text.index("extra ="), text.index("[tables.calls_agent_contact_phones]"))
        lines = text.splitlines()
        above = lines[lines.index("[tables.calls_agent_contact_phones]") - 1]
        self.assertTrue(above.startswith("# an array"), above)


LAYOUT = tessaron.draft(list(iter_calls(30)), name="calls")


if __name__ == "__main__":
    unittest.main()
