"""``kalyx demo``: a made-up machine, and the job walked through on it."""

from __future__ import annotations

import argparse

from kalyx.cli.calls import Call


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("dir", nargs="?", metavar="DIR", help="the folder to build it in (./larkmoor-demo)")
    parser.add_argument("--build-only", action="store_true", help="build the machine, without the walk")


def run(call: Call) -> int:
    from kalyx.demo.walk import walk_through

    return walk_through(call)
