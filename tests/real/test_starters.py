"""Scripts of shells that go on to a Python: what reading tells is what running them starts, and what it cannot tell it says."""

import ast
import os
import random
import shutil
import subprocess

import pytest

from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.system.live_reader import LiveReader
from tests.conftest import make_environment
from tests.equipment import NEW, OLD, SEED, need

SAYS = "import os, sys; print((os.path.realpath(sys.executable), sys.prefix, sys.flags.isolated, os.environ.get('PYTHONPATH')))"

# What stands in front (by chance one to three of these), and the end. {e} and {f} are environments, {w} their folder.
FRONT = [
    "set -eu", "umask 022; ulimit -n 256 2>/dev/null", "export A=1 B=2", "# exec /no/python", "trap : INT", "export PYTHONPATH={w}",
    "cat >/dev/null <<EOF\nexec /no/python \"$@\"\nEOF", "cat >/dev/null <<-'END'\n\texec /no/python\n\tEND", "{f}/bin/python -c pass",
    "die() {{ echo \"$1\" >&2; exit 1; }}\n[ -d {w} ] || die no", "help() {{ exec /no/python; }}", "true | {f}/bin/python -c pass",
    "if [ -x /no/python ]; then exec /no/python \"$@\"; fi", "[ -x /no/python ] && exec /no/python \"$@\"", "test -f {w}/no || A=1",
    "if [ -n \"$MOOR_GONE\" ]; then exec {f}/bin/python \"$@\"; fi", "for p in 1 2 3; do :; done", "(cd / && exit 0)", "cd {w}",
    "if command -v no-such-program >/dev/null 2>&1; then exec {f}/bin/python \"$@\"; fi", "case $(uname -s) in Linux) ;; *) exit 1;; esac",
    "echo hi >/dev/null &\nwait", "unset PYTHONHOME MOOR_SET", "A=$(date); B=`date`", "readonly KEPT={w}", ". {w}/returns", "which python3 >/dev/null", "command -v python3 >/dev/null", "PATH=\"{f}/bin:$PATH\"", "set -- \"$@\"",
]  # fmt: skip
ENDS = [
    'exec {e}/bin/python "$@"', '{e}/bin/python "$@"', '{e}/bin/python "$@"\nexit $?', "exec '{e}/bin/python' ${{1+\"$@\"}}",
    'exec "$(dirname "$0")/../e/bin/python" "$@"', "HERE=`dirname $0`\nexec $HERE/../e/bin/python \"$@\"", 'cd "$(dirname "$0")/.." || exit 1\nexec e/bin/python "$@"',
    'HERE="$(cd "$(dirname "$0")" && pwd)"\nexec "$HERE/../e/bin/python3" "$@"', 'exec "${{0%/*}}/../e/bin/python" "$@"',
    'HERE=$(dirname "$(readlink -f "$0")")\nexec "$HERE/../e/bin/python" "$@"', 'PY=${{MOOR_PY:-{e}/bin/python}}\nexec "$PY" "$@"',
    ': "${{MOOR_PY:={e}/bin/python}}"\nexec "$MOOR_PY" "$@"', 'PATH="{e}/bin:$PATH"\nexport PATH\nexec python "$@"', 'PATH={e}/bin:/bin exec python "$@"',
    'exec env A=1 PATH={e}/bin:$PATH python "$@"', 'exec /usr/bin/env -u A {e}/bin/python "$@"', '. {e}/bin/activate\nexec python "$@"',
    '. "$(dirname "$0")/../e/bin/activate"\npython "$@"', 'if [ -x {e}/bin/python ]; then P={e}/bin/python; else P={f}/bin/python; fi\nexec $P "$@"',
    'case "$(uname -s)" in\n  Linux) P={e}/bin/python;;\n  *) P=/x;;\nesac\nexec $P "$@"', 'case "$LANG" in C*) P={e};; *) P={f};; esac\nexec $P/bin/python "$@"',
    'run() {{\n  exec {e}/bin/python "$@"\n}}\nrun "$@"', 'python3() {{ {e}/bin/python "$@"; }}\npython3 "$@"', 'exec {w}/first "$@"',
    'for p in /no/python {e}/bin/python {f}/bin/python; do\n  [ -x "$p" ] && exec "$p" "$@"\ndone\nexit 1', 'exec {e}/bin/python -I "$@"',
    'for p in /no {e}/bin/python {f}/bin/python; do if [ -x $p ]; then break; fi; done\nexec $p "$@"', 'eval "exec {e}/bin/python \\"\\$@\\""',
    "exec sh -c 'exec {e}/bin/python \"$@\"' sh \"$@\"", 'exec nice -n 1 {e}/bin/python "$@"', 'exec \\\n  {e}/bin/python \\\n  "$@"', 'test -d /no || exec {e}/bin/python "$@"',
    'pick() {{ if [ -d {w}/no ]; then P={f}; return; fi; P={e}; }}\npick\nexec $P/bin/python "$@"', 'while :; do exec {e}/bin/python "$@"; done',
    '{{ exec {e}/bin/python "$@"; }}', 'A={w}; B=$A/e\nC=${{B}}/bin\nexec ${{C}}/python "$@"', 'P=$(command -v {e}/bin/python)\nexec "$P" "$@"',
]  # fmt: skip
# These depend on what only running tells, or go on in another language.
LEFT = [
    'case "$1" in --old) shift; exec {f}/bin/python "$@";; *) exec {e}/bin/python "$@";; esac', 'exec "$(cat {w}/named)" "$@"', 'exec "$1"',
    'exec -a "$0" {e}/bin/python "$@"', 'a=({e}/bin/python -s)\nexec "${{a[@]}}" "$@"', 'moor_load python\nexec python3 "$@"', "exit 3",
    'if {f}/bin/python -c pass; then exec {e}/bin/python "$@"; else exec {f}/bin/python "$@"; fi', 'exec {e}/bin/python -m json.tool "$@"',
    'exec {e}/bin/python tool.py "$@"', "which python3", 'set -a\nPYTHONPATH=/x\nexec {e}/bin/python "$@"', '. ./no-such-file\nfi', "exec {e}/bin/python \"$@", 'eval "$(cat {w}/named)"; exec python "$@"',
]  # fmt: skip


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    root = tmp_path_factory.mktemp("starters")
    for name, version in (("e", NEW), ("f", OLD)):
        make_environment(version, root / name, "--without-pip")
    (root / "bin").mkdir()
    (root / "returns").write_text("A=1\nreturn 0\nexec /no/python\n")
    (root / "named").write_text(f"{root}/e/bin/python")
    (root / "first").write_text('#!/bin/sh\nexec "$(dirname "$0")/e/bin/python" "$@"\n')
    (root / "first").chmod(0o755)
    return root


def written(world, text, shell="/bin/sh"):
    path = world / "bin" / "moor-python"
    path.write_text((f"#!{shell}\n" if shell else "") + text.format(e=world / "e", f=world / "f", w=world) + "\n")
    path.chmod(0o755)
    return path


def variables(world):
    return {"HOME": str(world), "PATH": "/usr/bin:/bin", "LANG": "C.UTF-8", "MOOR_SET": "1"}


def run(world, path):
    done = subprocess.run([path, "-c", SAYS], cwd=world, env=variables(world), capture_output=True, text=True, check=False)
    return ast.literal_eval(done.stdout) if done.returncode == 0 and done.stdout else None


def read(world, path):
    """What reading tells; None where it says that it does not know."""
    try:
        found = read_interpreter(LiveReader(variables(world), str(world)), str(path))
    except NotAnInterpreter as refusal:
        assert not refusal.dead, refusal
        return None
    return os.path.realpath(found.executable), found.prefix, int("-I" in found.given), found.sets.get("PYTHONPATH")


def test_each_end_is_what_it_starts(world):
    for text in ENDS:
        for shell in ("/bin/sh", "/usr/bin/env bash"):
            path = written(world, text, shell)
            own = run(world, path)
            assert own is not None and read(world, path) == own, text


def test_what_only_some_shells_have(world):
    """Known where the first line names such a shell, left open for a plain one."""
    for text in ('declare -x PYTHONPATH={w}\nexec {e}/bin/python "$@"', '[[ -d {w} ]] && exec {e}/bin/python "$@"', 'source {e}/bin/activate\nexec python "$@"'):
        path = written(world, text, "/bin/bash")
        assert run(world, path) is not None and read(world, path) == run(world, path), text
        assert read(world, written(world, text)) is None, text


def test_what_only_running_tells_is_said(world):
    for text in LEFT:
        assert read(world, written(world, text, "/bin/bash")) is None, text


def test_a_starter_that_reading_does_not_settle_is_asked(world, moor):
    path = written(world, LEFT[0], "/bin/bash")
    named = path.parent / "python-by-case"
    path.rename(named)
    answer = moor.kalyx("why", "json", "--in", named, "--json").json
    assert answer["target"]["environment"]["prefix"] == str(world / "e") and answer["imports"][0]["outcome"] == "imports"
    assert moor.kalyx("why", "json", "--in", named, "--static", "--json").json["imports"][0]["outcome"] == "undetermined"
    other = path.parent / "tool-by-case"
    named.rename(other)
    assert moor.kalyx("why", "json", "--in", other, "--json").json["imports"][0]["outcome"] == "undetermined", "no program is run for a question"


VARIABLE_FILES = {
    "entered": "source {e}/bin/activate", "added": "export A=1\nwatch_file x\nPATH_add ../f/bin", "two": "PATH_add {f}/bin {e}/bin",
    "written": "export PATH={e}/bin:$PATH", "by place": 'export PATH="$PWD/../e/bin:$PATH"', "condition": "if [ -d {e} ]; then PATH_add {e}/bin; fi",
    "unset": "unset PYTHONHOME\nPATH_add {e}/bin", "from another": ". {w}/more\nPATH_add $MOOR_ENV/bin", "only a name": "export A=1",
    "another folder": "cd {f}\nPATH_add bin", "added behind": "PATH={e}/bin\nPATH+=:/usr/bin:/bin", "added by export": "export PATH={f}/bin\nexport PATH+=:/usr/bin:/bin", "an added name": "A={w}\nA+=/e\nPATH_add $A/bin",
    "left": "use moor\nPATH_add {e}/bin", "worked out": "export PATH=$(cat {w}/named):$PATH",
}  # fmt: skip


def test_a_variable_file_is_what_its_loader_makes_of_it(world, moor):
    loader = need("an environment loader")
    (world / "more").write_text(f"MOOR_ENV={world}/f\n")
    moor.variables["PATH"] = f"{make_environment(NEW, moor.root / 'own', '--without-pip').removesuffix('/python')}:/usr/bin:/bin"
    for name, text in VARIABLE_FILES.items():
        folder = world / "loads" / "below"
        folder.mkdir(parents=True, exist_ok=True)
        (folder.parent / ".envrc").write_text(text.format(e=world / "e", f=world / "f", w=world) + "\n")
        subprocess.run([loader, "allow", folder.parent], env=moor.variables, check=True, capture_output=True)
        line = [loader, "exec", ".", "sh", "-c", "command -v python"]
        own = subprocess.run(line, cwd=folder, env=moor.variables, capture_output=True, text=True, check=False)
        seats = moor.kalyx("here", "--json", cwd=folder).json["seats"]
        found = [seat for seat in seats if seat["name"].startswith(".envrc")]
        if name in ("left", "worked out"):
            assert found[0]["interpreter"] is None and found[0]["undecided"], name
        elif name == "only a name":
            assert not found
        else:
            assert os.path.normpath(found[0]["interpreter"]["executable"]) == os.path.normpath(own.stdout.strip()), (name, own)


def test_scripts_by_chance(world):
    """Never another one than the script starts; of those that start one, nine of ten are known."""
    chance, known, ran = random.Random(SEED), 0, 0
    for number in range(60):
        text = "\n".join([*chance.sample(FRONT, chance.randint(1, 3)), chance.choice(ENDS)])
        path = written(world, text)
        own, found = run(world, path), read(world, path)
        assert found is None or found == own, f"seed {SEED}, number {number}:\n{text}"
        ran += own is not None
        known += found is not None
    assert known >= ran * 0.9, (known, ran)


HOSTILE = [
    "$(" * 10_000, "${{a:-" * 6_000, "${{a:-" * 1_000 + "}}" * 1_000, "if true; then " * 2_000 + "fi\n" * 2_000, "(" * 16_000, '"' * 31_999,
    "cat <<A\n" * 4_000, "A=xxxxxxxx\n" + "A=$A$A\n" * 1_000, 'if [ "$1" = a ]; then A=1; fi\n' * 500, "case $1 in " + "a) ;; " * 3_000 + " esac",
    'W="' + "a " * 2_000 + '"\nfor a in $W; do for b in $W; do for c in $W; do :; done; done; done', "A=" + "a" * 4_000 + "\n" + "B=${{A##*a*a*a*b}}\n" * 500,
    "f() {{ f; }}\nf", 'A="eval \\"\\$A\\""\neval "$A"', ". $0", "\\" * 30_000, "`" * 30_000, "a=1 && " * 4_000 + "a=1", "$" * 30_000, ">" * 30_000, "\0" * 99,
]  # fmt: skip


def test_a_script_that_is_to_keep_it_busy_is_left(world):
    for text in HOSTILE:
        assert read(world, written(world, text)) is None, text[:60]


def test_a_starter_is_followed_in_each_question(world, moor):
    """By its path, as a command, as a kernel; its options and variables are those of the answer."""
    path = written(world, 'export PYTHONPATH={w}/more\nexec {e}/bin/python -I -s "$@"')
    moor.variables |= {"PATH": f"{path.parent}:/usr/bin:/bin"}
    own = subprocess.run([path, "-c", "import sys; print(sys.path)"], cwd=moor.folder, env=moor.variables, capture_output=True, check=True)
    for target in (str(path), "program:moor-python"):
        answer = moor.kalyx("why", "json", "--in", target, "--as", "python -c pass", "--json").json
        assert [item["entry"] for item in answer["target"]["search_path"]] == ast.literal_eval(own.stdout.decode()), target
    moor.kernel("through", [str(path), "-m", "json.tool", "{connection_file}"])
    (kernel,) = moor.kalyx("kernels", "--json").json["kernels"]
    assert kernel["environment"]["prefix"] == str(world / "e")
    # The variables that a kernel's file sets decide what its starter goes on to.
    written(world, 'exec "${{MOOR_ENV:-{e}}}/bin/python" "$@"')
    moor.kernel("through", [str(path), "-m", "json.tool", "{connection_file}"], env={"MOOR_ENV": str(world / "f"), "PATH": "/bin"})
    (kernel,) = moor.kalyx("kernels", "--json").json["kernels"]
    assert kernel["environment"]["prefix"] == str(world / "f")
    path.write_text(path.read_text().partition("\n")[2])  # without a first line only a shell runs the text
    (kernel,) = moor.kalyx("kernels", "--json").json["kernels"]
    assert kernel["environment"] is None and kernel["conditions"] == ["interpreter-gone"]
    (path.parent / "python").symlink_to(path)
    for shell in filter(shutil.which, ("bash", "dash", "zsh")):
        line = "python -c 'import os, sys; print(os.path.realpath(sys.executable))'"
        said = subprocess.run([shell, "-c", line], env=moor.variables, capture_output=True, text=True, check=True)
        (seat,) = [item for item in moor.kalyx("here", "--json", SHELL=f"/bin/{shell}").json["seats"] if item["seat"] == "shell"]
        assert os.path.realpath(seat["interpreter"]["executable"]) == said.stdout.strip()
