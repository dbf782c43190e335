"""The diagram of tables: whatever refers to what, no line passes through a box, and nothing is left out."""

import re
import unittest
from itertools import combinations, pairwise

from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree

import tessaron
from tessaron.decide.drafting_run import draft
from tessaron.sources.demo.harbour_events import write_events
from tessaron.sources.demo.inspections import write_inspections
from tessaron.sources.demo.vessel_calls import iter_calls
from tessaron.views.diagram.layering import layers_of
from tessaron.views.diagram.placing import place
from tessaron.views.diagram.svg_drawing import svg_of
from tessaron.views.diagram.table_links import Box, BoxLine, Drawn, Link, drawn_tables, single_tables
from tessaron.views.diagram.text_drawing import diagram_lines
from tests.harness import FolderTest


def box(number, columns=2):
    lines = (BoxLine("row_key", "integer", "key"), BoxLine("parent_key", "integer", "link"))
    return Box(f"t{number}", (*lines, *(BoxLine(f"c{k}", "text") for k in range(columns))), number * 7)


@st.composite
def drawings(draw):
    """Draw tables of different heights and links between any of them: to themselves, in rings, twice."""
    count = draw(st.integers(1, 14))
    boxes = tuple(box(number, draw(st.integers(0, 6))) for number in range(count))
    ends = st.integers(0, count - 1)
    links = draw(st.lists(st.tuples(ends, ends, st.booleans(), st.sampled_from(["", "c0"])), max_size=24))
    return Drawn(
        boxes, tuple(Link(f"t{one}", f"t{many}", "parent_key", single, by) for one, many, single, by in links)
    )


def trees(depth=3, width=3):
    """Return a tree of tables, each with some below it."""
    boxes, links, level = [box(0)], [], [0]
    for _ in range(depth):
        following = []
        for parent in level:
            for _ in range(width):
                number = len(boxes)
                boxes.append(box(number, number % 5))
                links.append(Link(f"t{parent}", f"t{number}", "parent_key"))
                following.append(number)
        level = following
    return Drawn(tuple(boxes), tuple(links))


def points_of(link):
    """Yield many points of a link on its way: cubic curves with level ends between points, as they are drawn."""
    for (x, y), (to_x, to_y) in pairwise(link.points):
        bend = (to_x - x) / 2
        for step in range(25):
            t = step / 24
            yield (
                (1 - t) ** 3 * x
                + 3 * (1 - t) ** 2 * t * (x + bend)
                + 3 * (1 - t) * t**2 * (to_x - bend)
                + t**3 * to_x,
                (1 - t) ** 3 * y + 3 * (1 - t) ** 2 * t * y + 3 * (1 - t) * t**2 * to_y + t**3 * to_y,
            )


def is_inside(point, placed):
    x, y = point
    return (
        placed.x + 0.5 < x < placed.x + placed.width - 0.5
        and placed.y + 0.5 < y < placed.y + placed.height - 0.5
    )


class LaidOutTest(unittest.TestCase):
    @settings(max_examples=120, deadline=None)
    @given(drawings())
    def test_no_two_boxes_meet_and_no_line_passes_through_one(self, drawn):
        placed = place(drawn)
        for one, other in combinations(placed.boxes, 2):
            apart = (
                one.x + one.width <= other.x
                or other.x + other.width <= one.x
                or one.y + one.height <= other.y
                or other.y + other.height <= one.y
            )
            self.assertTrue(apart, (one.box.name, other.box.name))
        for link in placed.links:
            for point in points_of(link):
                self.assertEqual([each.box.name for each in placed.boxes if is_inside(point, each)], [])
        for each in placed.boxes:
            self.assertGreaterEqual(min(each.x, each.y), 0)
            self.assertLessEqual(each.x + each.width, placed.width)
            self.assertLessEqual(each.y + each.height, placed.height)

    @settings(max_examples=60, deadline=None)
    @given(drawings())
    def test_lines_begin_and_end_at_the_columns_they_are_of(self, drawn):
        placed = place(drawn)
        by_name = {each.box.name: each for each in placed.boxes}
        for link in placed.links:
            one, many = by_name[link.link.one], by_name[link.link.many]
            self.assertIn(link.points[0][0], (one.x, one.x + one.width))
            self.assertIn(link.points[-1][0], (many.x, many.x + many.width))
            wanted = (
                link.link.looked_up_by
                if any(line.name == link.link.looked_up_by for line in one.box.lines)
                else "row_key"
            )
            if not link.link.looked_up_by:
                self.assertEqual(link.points[0][1], one.line_y(wanted))
            self.assertEqual(link.points[-1][1], many.line_y("parent_key"))

    @settings(max_examples=40, deadline=None)
    @given(drawings())
    def test_the_same_tables_give_the_same_bytes(self, drawn):
        self.assertEqual(svg_of(place(drawn), "t"), svg_of(place(drawn), "t"))

    def test_what_is_referred_to_stands_further_left(self):
        drawn = Drawn(
            tuple(map(box, range(6))),
            (
                Link("t0", "t1", "parent_key"), Link("t1", "t2", "parent_key"), Link("t0", "t3", "parent_key"),
                Link("t5", "t2", "c0", looked_up_by="c0"), Link("t0", "t2", "c1"),
            ),
        )  # fmt: skip
        slots = layers_of(drawn).slots
        layer = {slot: number for number, slots_of in enumerate(slots) for slot in slots_of}
        for link in drawn.links:
            self.assertLess(layer[link.one], layer[link.many])
        self.assertEqual(layer["t5"], layer["t2"] - 1, "what is looked up in stands near")
        self.assertIn((4, 1), slots[1], "a long link has a slot in the layer between")

    def test_lines_of_a_tree_do_not_cross(self):
        placed = place(trees(), 10_000)
        ends = {}
        for link in placed.links:
            ends.setdefault(round(link.points[0][0]), []).append((link.points[0][1], link.points[-1][1]))
        for pairs in ends.values():
            for (start, end), (other_start, other_end) in combinations(pairs, 2):
                self.assertGreaterEqual((start - other_start) * (end - other_end), 0)

    def test_many_tables_are_laid_out_in_no_time_and_fold(self):
        placed = place(trees(depth=3, width=12))
        self.assertTrue(placed.is_folded)
        self.assertEqual(len(placed.boxes), 1 + 12 + 144 + 1728)
        self.assertEqual({each.height for each in placed.boxes}, {26.0})

    def test_nothing_to_draw_is_drawn(self):
        placed = place(Drawn((), ()))
        self.assertEqual((placed.boxes, placed.links), ((), ()))
        self.assertEqual(list(diagram_lines(Drawn((), ()))), [])


class DrawnTest(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(drawings())
    def test_svg_names_every_table_column_and_link(self, drawn):
        svg = etree.fromstring(svg_of(place(drawn), "tables & keys").encode())
        space = {"s": "http://www.w3.org/2000/svg"}
        boxes = svg.xpath("//s:g[@data-table]", namespaces=space)
        self.assertEqual([each.get("data-table") for each in boxes], [each.name for each in drawn.boxes])
        for element, drawn_box in zip(boxes, drawn.boxes, strict=True):
            columns = [
                each.get("data-column") for each in element.xpath("s:g[@data-column]", namespaces=space)
            ]
            self.assertEqual(columns, [line.name for line in drawn_box.lines])
        links = svg.xpath("//s:g[@data-one]", namespaces=space)
        self.assertEqual(
            [(each.get("data-one"), each.get("data-many")) for each in links],
            [(link.one, link.many) for link in drawn.links],
        )
        self.assertEqual(svg.get("aria-label"), "tables & keys")

    @settings(max_examples=60, deadline=None)
    @given(drawings(), st.sampled_from([0, 40, 80]))
    def test_text_names_every_table_once_and_every_link(self, drawn, width):
        lines = list(diagram_lines(drawn, width))
        names = [re.search(r"(t\d+)\s", f"{line} ")[1] for line in lines]
        self.assertEqual(sorted(names), sorted(each.name for each in drawn.boxes))
        self.assertLessEqual(max(map(len, lines)), width or 10_000)
        if not width:
            arrows = sum(line.count("→") for line in lines)
            hung = sum(line.lstrip("│├└ ").startswith(("─<", "─o")) for line in lines)
            self.assertEqual(arrows + hung, len(drawn.links))

    def test_hostile_names_stay_text(self):
        name = '<b onclick="x">\u202e&\'"'
        drawn = Drawn((Box(name, (BoxLine(name, "text", "key"),)),), ())
        text = svg_of(place(drawn), name)
        self.assertEqual(etree.fromstring(text.encode()).xpath("//*[local-name()='b']"), [])
        self.assertNotIn("\u202e", text + "".join(diagram_lines(drawn)))


class LinksOfLayoutsTest(FolderTest):
    def drawn(self, source, **options):
        layout = draft(source, **options)
        return drawn_tables(layout.compiled(secret=b"any").written().tables, single_tables(layout.part))

    def links(self, drawn):
        return {(link.one, link.many): link for link in drawn.links}

    def test_arrays_objects_recursion_documents_and_lookups(self):
        inspections = self.links(self.drawn(write_inspections(self.folder)))
        compartments = "inspections_holds_compartments"
        self.assertEqual(inspections[compartments, compartments].column, "within_key")
        self.assertEqual(inspections["inspections_documents", "inspections"].column, "document_key")
        self.assertFalse(inspections["inspections", "inspections_holds"].is_single)
        events = self.links(self.drawn(write_events(self.folder)))
        self.assertTrue(events["harbour_events", "harbour_events_weather"].is_single)
        self.assertFalse(events["harbour_events_berthing", "harbour_events_berthing_lines"].is_single)
        calls = self.links(self.drawn(iter_calls(400), name="calls", lookups=True))
        self.assertEqual(calls["vessel", "calls"].looked_up_by, "number")

    def test_a_shared_table_belongs_to_several(self):
        place_of = {"code": "N1", "depth": 4, "side": "N"}
        records = [
            {"from": {"berth": place_of}, "to": {"berth": place_of}, "stops": [{"berth": place_of}]}
            for _ in range(30)
        ]
        drawn = self.drawn(records, name="trips", shared=["$.from.berth"])
        found = {link.one for link in drawn.links if link.many == "berth"}
        self.assertLessEqual({"trips", "trips_stops"}, found)

    def test_tables_in_memory_draw_themselves(self):
        text = str(tessaron.shred(list(iter_calls(20)), name="calls"))
        self.assertRegex(text, r"(?m)^│   └─< calls_stays_moves +\d+ rows; 3 keys, 6 columns$")


if __name__ == "__main__":
    unittest.main()
