"""The demo, whole, as a newcomer runs it; and the seats it shows are the ones that run."""

import json
import subprocess
import sys


def test_the_whole_story(moor):
    ran = moor.kalyx("demo", "larkmoor", "--json")
    answer = ran.json
    assert ran.status == 0, json.dumps(answer, indent=1)
    assert [step["status"] for step in answer["steps"]] == [0, 1, 1, 0, 0, 0, 0]
    why = answer["steps"][2]["output"]
    assert "orchard-spring is named after orchard but runs heath" in why
    line = next(line for line in why.splitlines() if line.strip().startswith("so ")).split("so", 1)[1].strip()
    assert line.startswith("kalyx register ") and "--id orchard-spring --take-over" in line
    last = answer["steps"][-1]["output"]
    assert "≠" not in last and last.count("=  ") == 4
    again = moor.kalyx("demo", "larkmoor", "--build-only")
    assert again.status == 0
    # What here says of each seat is what the seat itself says.
    enter = moor.folder / "larkmoor" / "enter.sh"
    shell = f". {enter} && {sys.executable} -I -m kalyx here --json --against shell; python -c 'import sys; print(sys.executable)'"
    done = subprocess.run(["sh", "-c", shell], capture_output=True, text=True, check=False)
    table, _, said = done.stdout.rpartition("}\n")
    here = json.loads(table + "}")
    assert here["reference"]["interpreter"]["executable"] == said.strip()
    relations = {seat["name"]: seat["relation"] for seat in here["seats"] if seat["seat"] != "shell"}
    assert relations == {"orchard": "same", "orchard-spring": "differs", "spring_weights.ipynb": "differs"}
