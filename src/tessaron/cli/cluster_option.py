"""The options that say where a source is worked on in parts, and what they come to."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from tessaron.cli.shared_options import ByteSize, Command

if TYPE_CHECKING:
    from tessaron.engine.parts.clusters import Cluster


def cluster_options(command: Command) -> Command:
    """Add the options that say where a source is worked on in parts."""
    size = click.option(
        "--part-size", "part_bytes", type=ByteSize(), metavar="SIZE",
        help="With --cluster: so much of the source in each part; else 100MB.",
    )  # fmt: skip
    address = click.option(
        "--cluster", metavar="ADDRESS",
        help="Work on a cluster of Dask: its scheduler, tcp://HOST:PORT, or local:N processes here.",
    )  # fmt: skip
    return address(size(command))


def cluster_given(options: dict[str, Any]) -> Cluster | None:
    """Take the options of `cluster_options` out of all options; return the cluster, if one was named."""
    address, part_bytes = options.pop("cluster"), options.pop("part_bytes")
    if address is None:
        if part_bytes is not None:
            raise click.UsageError("--part-size goes with --cluster")
        return None
    from tessaron.engine.parts.clusters import Cluster

    return Cluster(address) if part_bytes is None else Cluster(address, part_bytes)
