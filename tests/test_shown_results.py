"""Results as notebooks, terminals and figures show them."""

import io
import json
import subprocess
import sys
import unittest

import pyarrow as pa
from lxml import html

import tessaron
from tessaron.sources.demo.harbour_log import LOG_LAYOUT, write_log
from tessaron.sources.demo.vessel_calls import iter_calls
from tests.harness import FolderTest

CALLS = list(iter_calls(40))
HOSTILE = "</td><script>alert(1)</script>\u202e&"


class FormsTest(FolderTest):
    def results(self):
        """Return one result of each class, with words that its forms must have."""
        feed = self.write("calls.ndjson", "".join(json.dumps(call) + "\n" for call in CALLS))
        folder, base = self.folder / "t", f"sqlite:///{self.folder / 'c.db'}"
        receipt = tessaron.export(feed, folder)
        return (
            (tessaron.survey(feed), ["40 records", "berth", "unique and never missing"]),
            (tessaron.draft(feed), ["[tables.calls_stays]", "timestamp_tz"]),
            (tessaron.shred(feed), ["calls_stays_moves", "40 row"]),
            (receipt, ["40 records", "calls_stays", "out"]),
            (tessaron.load(feed, base), ["calls_stays", "40"]),
            (tessaron.verify(folder), ["identical: 40 records compared", "primary key"]),
            (tessaron.compare({"a": 1}, {"a": "x"}), ["breaks", "$.a"]),
            (tessaron.history(base), ["create", "calls"]),
        )

    def test_each_has_a_form_for_notebooks_and_one_for_terminals(self):
        for result, words in self.results():
            made = result._repr_html_()
            shown = html.fromstring(made).text_content() if made else ""
            for form, text in (("html", shown), ("text", str(result))):
                with self.subTest(type(result).__name__, form=form):
                    self.assertEqual([word for word in words if word not in text], [])
            with self.subTest(type(result).__name__):
                self.assertNotIn("<script", made)
                self.assertNotRegex(made, r"(src|href|url)\s*[=(]\s*[\"']?http")
                self.assertNotIn("\033[", str(result))
                self.assertLess(len(made), 60_000)

    def test_what_stands_in_the_data_stays_text(self):
        records = [{HOSTILE: HOSTILE, "list": [{HOSTILE: 1}]}]
        for result in (
            tessaron.survey(records),
            tessaron.shred(records),
            tessaron.draft(records),
            tessaron.compare(records, [{"b": 1}]),
        ):
            with self.subTest(type(result).__name__):
                for form in (result._repr_html_(), str(result)):
                    self.assertNotIn("\u202e", form)
                self.assertNotIn("<script", result._repr_html_())

    def test_something_rejected_is_said_in_words_and_not_by_colour_alone(self):
        feed = self.write("odd.ndjson", '{"a":1}\nnot json\n')
        receipt = tessaron.export(feed, self.folder / "t")
        self.assertIn("something is not in the tables", receipt._repr_html_())
        self.assertIn("1 record left out", str(receipt))

    def test_terminals_of_ipython_print_the_text(self):
        from IPython.lib.pretty import pretty

        survey = tessaron.survey(CALLS)
        self.assertEqual(pretty(survey), str(survey))
        self.assertTrue(repr(survey).startswith("Survey(40 records"))

    def test_tables_speak_the_c_stream_of_arrow(self):
        tables = tessaron.shred(CALLS, name="calls")
        read = pa.RecordBatchReader.from_stream(tables["calls_stays"]).read_all()
        self.assertEqual(read, tables["calls_stays"])
        again = tessaron.shred(tables["calls_stays"], name="stays")
        self.assertEqual(again["stays"].num_rows, tables["calls_stays"].num_rows)

    def test_progress_in_a_notebook(self):
        from IPython.utils.capture import capture_output

        feed = self.write("calls.ndjson", "".join(json.dumps(call) + "\n" for call in CALLS))
        with capture_output() as shown:
            progress = tessaron.NotebookProgress()
            tessaron.export(feed, self.folder / "t", progress=progress)
            tessaron.shred(feed, progress=progress)
            progress.say("looks \u202e through")
        self.assertIn("looks \\u202e through", shown.stdout)
        drawn = []
        progress._handle = type("Handle", (), {"update": lambda self, shown: drawn.append(shown.data)})()
        progress.start(1000)
        progress.read(1000)
        progress.write(1, 2)
        progress.write(2, 2)
        progress.start(None)
        self.assertIn('value="1.000"', drawn[1])
        self.assertIn("writing", drawn[-2])
        self.assertNotIn("<progress", drawn[-1])

    def test_a_bare_import_loads_nothing_that_shows(self):
        script = "import sys, tessaron; print([m for m in ('rich', 'jinja2', 'matplotlib', 'IPython', 'pyarrow') if m in sys.modules])"
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "[]")


class FiguresTest(FolderTest):
    def figures(self):
        log = write_log(self.folder)
        layout = tessaron.Layout.read(self.folder / LOG_LAYOUT)
        wide = [{f"f{n}": n for n in range(300)}]
        with tessaron_secret():
            receipt = tessaron.export(log, self.folder / "t", layout=layout)
        return {
            "survey": tessaron.survey(CALLS).figure(),
            "tables": tessaron.shred(CALLS, name="calls").figure(),
            "receipt": receipt.figure(),
            "wide survey": tessaron.survey(wide).figure(),
            "wide tables": tessaron.shred(wide).figure(),
        }

    def test_figures_have_their_size_and_all_their_texts_inside(self):
        for name, figure in self.figures().items():
            with self.subTest(name):
                figure.savefig(io.BytesIO(), format="png")
                self.assertEqual(tuple(figure.get_size_inches() * figure.dpi), (1280, 800))
                texts = [
                    each
                    for each in figure.findobj(lambda each: hasattr(each, "get_fontsize"))
                    if each.get_text().strip() and each.get_visible()
                ]
                self.assertGreaterEqual(min(each.get_fontsize() for each in texts), 4)
                boxes = [each.get_window_extent() for each in texts]
                self.assertGreater(min(box.x0 for box in boxes), -1)
                self.assertLess(max(box.x1 for box in boxes), 1281)
                self.assertLess(max(box.y1 for box in boxes), 801)
                self.assertTrue(figure._repr_png_().startswith(b"\x89PNG"))

    def test_what_is_not_drawn_is_said(self):
        figures = self.figures()
        said = {
            name: [each.get_text() for each in figure.findobj(lambda each: hasattr(each, "get_text"))]
            for name, figure in figures.items()
        }
        self.assertTrue(any("264 more paths are not shown" in text for text in said["wide survey"]))
        self.assertTrue(any("only names are drawn" in text for text in said["wide tables"]))
        self.assertTrue(any("4 × embedded" in text for text in said["receipt"]))
        self.assertIn("calls_stays_moves", said["tables"])


def tessaron_secret():
    from tessaron.cli.walkthrough.demo_walkthrough import masked_by

    return masked_by("only a test")


if __name__ == "__main__":
    unittest.main()
