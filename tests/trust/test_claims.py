"""Several at once find a dead worker's claim: one takes it over, whatever the order in which their steps fall."""

import json
import os
import subprocess
import sys

from tests.equipment import LONG

WORKER = r"""
import json, os, random, sys, time
from kalyx.core.system.live_writer import LiveWriter
from kalyx.core.system.claims import claim
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.model.records import KalyxError
folder, seed = sys.argv[1], int(sys.argv[2])
chance, waiting = random.Random(seed), [False]

def heard(event, arguments):  # every step that another can see is put off by chance: so they fall in any order
    if event in ("open", "os.remove") and waiting[0] and chance.random() < 0.7:
        time.sleep(chance.random() * 0.02)

sys.addaudithook(heard)
place, inside = os.path.join(folder, "claim"), os.path.join(folder, "inside")
reader, writer, took, met = LiveReader(dict(os.environ), folder), LiveWriter(), 0, []
sys.stdin.readline()
for turn in range(6):
    waiting[0] = True
    try:
        claim(reader.again(), place, writer)
    except KalyxError:
        continue
    finally:
        waiting[0] = False
    try:
        os.mkdir(inside)
    except FileExistsError:
        met.append(turn)
    took += 1
    time.sleep(0.01)
    os.rmdir(inside) if os.path.isdir(inside) else None
    # One leaves as a worker does that is done, the next as one that dies: its claim stays, and names nobody.
    if turn % 2:
        os.remove(place)
    else:
        open(place, "w").write("999999999 1.0\n")
print(json.dumps([took, met]))
"""


def test_one_takes_over(tmp_path):
    for seed in range(40 if LONG else 2):
        folder = tmp_path / str(seed)
        folder.mkdir()
        (folder / "claim").write_text("999999999 1.0\n")
        workers = [
            subprocess.Popen([sys.executable, "-c", WORKER, str(folder), f"{seed}{number}"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
            for number in range(4)
        ]
        for worker in workers:
            worker.stdin.write("\n")
            worker.stdin.flush()
        said = [json.loads(worker.communicate()[0]) for worker in workers]
        assert sum(took for took, _ in said) >= 4 and not any(met for _, met in said), (seed, said)
        assert not [name for name in os.listdir(folder) if name not in ("claim",)], os.listdir(folder)


def test_a_clock_that_is_set_changes_nothing(tmp_path, monkeypatch):
    """Who is at work is known by the system's own count: a clock five seconds off lets nobody else in."""
    from kalyx.core.system import claims, live_reader
    from kalyx.core.system.live_reader import LiveReader
    from kalyx.core.system.live_writer import LiveWriter

    reader, place = LiveReader({}, str(tmp_path)), str(tmp_path / "claim")
    claims.claim(reader, place, LiveWriter())
    before = reader.process(os.getpid()).started
    booted = live_reader._booted()
    monkeypatch.setattr(live_reader, "_booted", lambda: booted + 5)
    fresh = LiveReader({}, str(tmp_path))
    assert fresh.process(os.getpid()).started == before + 5 and claims.worker(fresh, place) == os.getpid()
    (tmp_path / "claim").write_text(f"{os.getpid()} 12@other\n")
    assert claims.worker(LiveReader({}, str(tmp_path)), place) is None, "another process had this number"
