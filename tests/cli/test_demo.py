"""The demo, whole, as a newcomer runs it; the seats it shows are the ones that run; and the guide walked on it."""

import json
import subprocess
import sys

from tools.guide import PAGE, QUESTIONS, blocks, expected_status, run

from kalyx.cli.help_text import EXAMPLES
from kalyx.cli.start import COMMANDS


def test_the_whole_story(story):
    answer = story[1]
    planned = story[0].kalyx("demo", "larkmoor", "--dry-run", "--json").json
    assert planned["plan"][0]["action"].startswith("remove the demo machine created there before") and not planned["done"]
    assert [step["status"] for step in answer["steps"]] == [0, 1, 1, 0, 0, 0, 0], json.dumps(answer, indent=1)
    assert [item["action"] for item in answer["plan"]] == ["create a demo machine of about 40 MB"] and answer["done"]
    why = answer["steps"][2]["output"]
    assert "orchard-spring is named after orchard but runs heath" in why
    lines = why.splitlines()
    line = lines[next(at for at, line in enumerate(lines) if line.strip().startswith("fix ")) + 1].strip()
    assert line.startswith("kalyx register ") and "--id orchard-spring --take-over" in line
    last = answer["steps"][-1]["output"]
    assert "≠" not in last and last.count("=  ") == 4


def test_a_step_that_ends_otherwise_stops_the_story(as_built):
    """Said on standard error, with status 1; the steps after it are not typed. The machine is not built again for it."""
    moor = as_built()
    code = ("import os, sys, kalyx.demo.machine as machine, kalyx.demo.walk as walk; from kalyx.cli.start import main\n"
            "walk.STEPS[1:] = [('Ask.', ['kalyx', 'causes', 'absentia'], 0), *walk.STEPS[2:]]\n"
            "root = os.path.abspath('larkmoor'); home = root + '/home'; moor = home + '/larkmoor'\n"
            "machine.build = lambda *_: machine.Demo(root, home, moor + '/spring', machine._variables(root, home, moor), [], [])\n"
            "sys.argv = ['kalyx', 'demo', 'larkmoor', '--yes', '--json']; main()")  # fmt: skip
    done = subprocess.run([sys.executable, "-c", code], cwd=moor.folder, env=moor.variables, capture_output=True, text=True, check=False)
    answer = json.loads(done.stdout)
    assert done.returncode == 1 and [step["status"] for step in answer["steps"]] == [0, 2] and not answer["done"]
    assert "kalyx causes absentia ended with 2, and the story expects 0" in done.stderr


def test_the_guide_does_what_it_says(as_built):
    """On the machine as it was built; every command ends and says as the page shows."""
    walk(PAGE.read_text(), as_built(), 15)


def test_each_question_is_answered_as_its_page_says(as_built):
    """One page after the other on one machine, which each leaves as that page found it."""
    walk("".join(page.read_text() for page in QUESTIONS), as_built(), 25)


def walk(page: str, moor, at_least: int) -> None:
    """Run the commands of a page; each must end, and print, as the page shows."""
    shown = [(command, lines) for block in blocks(page) for command, lines in block]
    told = run(page, moor.folder / "larkmoor", moor.variables, as_built=True)
    assert len(shown) > at_least and [command for command, _ in shown] == [command for command, _, _ in told]
    for (command, lines), (_, status, output) in zip(shown, told, strict=True):
        assert status == expected_status(command), (command, output)
        whole = " ".join(" ".join(output).split())
        for line in lines:
            # What stands there of versions, places and sizes is another machine's.
            if line.strip() and not any(character.isdigit() or character in "/~…" for character in line):
                assert " ".join(line.split()) in whole, (command, line, output)


def test_its_seats_are_the_ones_that_run_and_one_can_leave(as_built):
    moor = as_built()
    enter = moor.folder / "larkmoor" / "enter.sh"
    words = (
        f"MINE=kept; . {enter} && {sys.executable} -I -m kalyx here --json --against shell"
        " && :; python -c 'import sys; print(sys.executable)'; kalyx survey --json; leave; echo $HOME $PWD ${PIP_NO_INDEX-none}"
    )
    done = subprocess.run(["sh", "-c", words], capture_output=True, text=True, check=False, cwd=moor.folder,
                          env=moor.variables)  # fmt: skip
    table, said, survey, last = _parts(done.stdout)
    assert table["reference"]["interpreter"]["executable"] == said
    relations = {seat["name"]: seat["relation"] for seat in table["seats"] if seat["seat"] != "shell"}
    assert relations == {"orchard": "same", "orchard-spring": "differs", "spring_weights.ipynb": "differs"}
    assert sorted(environment["name"] for environment in survey["environments"] if environment["kind"] == "virtual") == ["heath", "orchard"]
    assert {interpreter["prefix"] for interpreter in survey["interpreters"]} == {environment["base_prefix"] for environment in survey["environments"]}
    assert last.split() == [str(moor.root), str(moor.folder), "none"]


def _parts(text: str) -> tuple[dict, str, dict, str]:
    """An answer in JSON, a line, another answer, the last line."""
    decoder = json.JSONDecoder()
    table, end = decoder.raw_decode(text)
    said, _, rest = text[end:].lstrip().partition("\n")
    survey, end = decoder.raw_decode(rest)
    return table, said, survey, rest[end:].strip()


def test_the_examples_of_every_help_run_on_it(as_built):
    """As they stand in the help, typed into a shell that entered the demo."""
    moor = as_built()
    assert set(EXAMPLES) == set(COMMANDS)
    lines = [line for name, lines in EXAMPLES.items() if name != "demo" for line in lines]
    script = "\n".join([f". {moor.folder}/larkmoor/enter.sh", *(f"{{ {line}\n}} </dev/null >/dev/null; echo =$?" for line in lines)])
    done = subprocess.run(["bash", "--norc", "--noprofile"], input=script, capture_output=True, text=True, check=False,
                          cwd=moor.folder, env=moor.variables)  # fmt: skip
    ends = [line for line in done.stdout.splitlines() if line.startswith("=")]
    assert len(ends) == len(lines), done.stdout + done.stderr
    assert [(line, end) for line, end in zip(lines, ends, strict=True) if end not in ("=0", "=1")] == [], done.stderr
