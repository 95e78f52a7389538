"""What a call loads and reads, and what an installation weighs, does not rise unseen."""

import json

from benchmarks.weight import KEPT, measured, risen


def test_nothing_rises_unseen():
    kept, now = json.loads(KEPT.read_text()), measured()
    assert not risen(kept, now), "python -m benchmarks.weight --write keeps it, if it is worth that"
    assert len(now["modules"]["here --json"]) > 60 and now["readings"]["survey on cluster-larkmoor"]["listing"] > 20
    # The comparison can fail: of each kind one more is told.
    less = json.loads(json.dumps(now))
    less["modules"]["--version"].remove("argparse")
    less["readings"]["survey on cluster-larkmoor"]["listing"] -= 1
    less["bytes"] -= 1
    assert [line.split()[1] for line in risen(less, now)] == ["--version", "survey", "files"]
