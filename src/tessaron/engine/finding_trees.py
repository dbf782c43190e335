"""Finding trees whose node names are data in what was put aside: two passes more, where there may be any."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection

from tessaron.core.base.paths import Path, format_path
from tessaron.core.model.name_trees import FoundTree, TreeCounts, TreeWork, found_trees
from tessaron.core.model.recurring_names import NameWork, Seen, fields_of_nodes, recurring_names
from tessaron.engine.feeds import Feed, Mapper


def find_trees(feed: Feed, mapper: Mapper, without: Collection[str] = ()) -> list[FoundTree]:
    """Return the trees whose node names are data.

    Args:
        feed: The records, put aside.
        mapper: Goes over them.
        without: Paths, as JSONPath, of objects whose names are no data.
    """
    record = feed.seen().record
    names = recurring_names(record)
    if not names:
        return []
    seen: dict[str, Seen] = defaultdict(Seen)
    for found_names in mapper.map(NameWork(names), feed.spill.read()):
        for name, each in found_names.items():
            seen[name].add(each)
    fields = fields_of_nodes(seen)
    if not fields:
        return []
    found: dict[Path, TreeCounts] = defaultdict(TreeCounts)
    for found_trees_here in mapper.map(TreeWork(record, fields), feed.spill.read()):
        for path, counts in found_trees_here.items():
            if format_path(path) not in without:
                found[path].add(counts)
    return found_trees(found, fields)
