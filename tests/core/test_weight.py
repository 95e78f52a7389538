"""What a call loads and reads, and what an installation weighs, does not rise unseen."""

import json
import shutil
import subprocess
import sys

from benchmarks.weight import KEPT, SPARE, measured, risen


def test_nothing_rises_unseen():
    kept, now = json.loads(KEPT.read_text()), measured()
    assert not risen(kept, now), "python -m benchmarks.weight --write keeps it, if it is worth that"
    assert now["modules"]["here --json"][0] > 60 and now["readings"]["survey on cluster-larkmoor"]["listing"] > 20
    # The comparison can fail: of each kind one more is told.
    less = json.loads(json.dumps(now))
    less["modules"]["--version"][1] -= SPARE[1] + 1
    less["readings"]["survey on cluster-larkmoor"]["listing"] -= 1
    for counts in less["calls"].values():
        counts[next(iter(counts))] -= 1
    less["bytes"] -= 1
    traced = ["here", "survey", "packages"] if shutil.which("strace") else []
    assert [line.split()[1] for line in risen(less, now)] == ["--version", "survey", *traced, "files"]


LIGHTLY = """
import sys
from kalyx.cli.lightly import load_records
load_records()
spared = {"platform", "msgspec.inspect", "msgspec.msgpack", "msgspec._json_schema", "typing_extensions"} & set(sys.modules)
assert not spared or sys.version_info < (3, 11) and spared == {"typing_extensions"}, spared
import msgspec
assert msgspec.json.schema(int) == {"type": "integer"}
assert msgspec.msgpack.decode(msgspec.msgpack.encode([1])) == [1]
from msgspec import inspect, yaml
assert isinstance(msgspec.inspect.type_info(int), inspect.IntType)
import platform, uuid
assert platform.system() == platform.uname().system and uuid.uuid1().version == 1
assert not hasattr(msgspec, "nothing_of_the_kind")
"""


def test_what_a_start_leaves_out_is_there_when_it_is_asked_for():
    done = subprocess.run([sys.executable, "-I", "-c", LIGHTLY], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
