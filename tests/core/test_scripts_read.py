"""What shell scripts start and module files set, read on machines in memory, word for word (scripts/*.txt).

``KALYX_DRAW=1`` writes the files again; read the difference then. Real shells are compared in tests/real/test_starters.py.
"""

from __future__ import annotations

from collections.abc import Iterable

import pytest

from kalyx.core.interpreters import sitemodules
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.interpreters.shell_script import start_of
from kalyx.core.interpreters.shell_syntax import Unsettled
from kalyx.core.system.memory_reader import Link, MemoryReader
from tests.made import BINARY, HOME, Files
from tests.real.test_starters import ENDS, FRONT, LEFT
from tests.support.scenes import Scenes

SCENES = Scenes("core/scripts")
scene = SCENES.add
HEATH, ORCHARD, PLACE = f"{HOME}/heath", f"{HOME}/orchard", f"{HOME}/place"
OWN = [
    'set -- a "$X" {e}\nexec $3/bin/python', 'set -- a $(x) {e}\nexec $3/bin/python', 'set -- a $(x) {e}\nexec {e}/bin/python $2', 'set -- $(x)\nexec {e}/bin/python $1', 'set -- $(x) b\nexec {e}/bin/python $2', 'set -- {e}\nexec $1/bin/python $2', 'exec ${{GONE:-\n{e}}}/bin/python "$@"', 'exec ${{GONE:-{e}\n}}/bin/python "$@"', 'A={e}\nexec ${{A%\n*}}/bin/python "$@"',
    'cd ~\nexec ./heath/bin/python "$@"', 'P=~\nexec $P/heath/bin/python "$@"', 'P=~/heath\nexec $P/bin/python "$@"', 'P=a~/heath\nexec {e}/bin/python$P', 'P="~/heath"\nexec $P/bin/python "$@"', *('[ ' + test + ' ] && exec {e}/bin/python "$@"\nexec {f}/bin/python "$@"' for test in ("a = a", "a = b", "a == a", "a == b", "a != a", "a != b", "a -eq a", "a", '""', "-n a", '-n ""', "-z a", '-z ""')), 'cat <<-E\n\tx\n\tE\nexec {e}/bin/python "$@"', 'cat <<E\n\tx\n\tE\nE\nexec {e}/bin/python "$@"', 'cat <<-E\n x\n E\nE\nexec {e}/bin/python "$@"',
    'shift && exec {e}/bin/python "$@"\nexec {f}/bin/python "$@"', 'shift || exec {f}/bin/python "$@"\nexec {e}/bin/python "$@"', 'for p in {e}; do exec $p/bin/python "$@"; done', 'for p in {f} {e}; do P=$p; done\nexec $P/bin/python "$@"', 'test ! && exec {e}/bin/python "$@"\nexec {f}/bin/python "$@"', '[ ! ] && exec {e}/bin/python "$@"\nexec {f}/bin/python "$@"', '[ ! x ] || exec {e}/bin/python "$@"\nexec {f}/bin/python "$@"', '[ ! "" ] && exec {e}/bin/python "$@"\nexec {f}/bin/python "$@"',
    *('[ ' + sign + ' ' + path + ' ] && exec {e}/bin/python "$@"\nexec {f}/bin/python "$@"' for sign in ("-L", "-h", "-e", "-f", "-d", "-r", "-x", "-s", "-w") for path in ("{w}/linked", "{w}/named", "{e}/bin/python", "{e}", "/gone", "named")), 'case a in\n a)\n P={e}\n ;;\n\n b) P={f};;\nesac\nexec $P/bin/python "$@"', 'case b in\n\n a) P={f};;\n\n\n b) P={e};;\n\nesac\nexec $P/bin/python "$@"', 'P={f} | P={e}\nexec $P/bin/python "$@"', 'P={f}; (P={e}; cd /)\nexec $P/bin/python "$@"', 'P={e}; {{ P={f}; }} | cat\nexec $P/bin/python "$@"',
    'eval eval eval "P={e}"\nexec $P/bin/python "$@"', 'eval "eval \'exec {e}/bin/python\'"', 'A="eval exec {e}/bin/python"\neval "eval $A"',
    'case "$1" in a) exec {f}/bin/python "$@";; *) ;; esac\nexec {e}/bin/python "$@"', 'case "$1" in a) P={e};; b) P={e};; esac\nexec ${{P:-{e}}}/bin/python "$@"', 'while [ -n "$A" ]; do A=; done\nexec {e}/bin/python "$@"', 'while false; do P={f}; done\nexec {e}/bin/python "$@"', 'until true; do exec {f}/bin/python; done\nexec {e}/bin/python "$@"',
    'declare -x PYTHONPATH=/x\nexec {e}/bin/python "$@"', 'declare PYTHONPATH=/x\nexec {e}/bin/python "$@"', 'typeset -rx PYTHONPATH=/x\nexec {e}/bin/python "$@"', 'f() {{ return 1; }}\nif f; then exec {f}/bin/python "$@"; fi\nexec {e}/bin/python "$@"', 'f() {{ return 0; }}\nf && exec {e}/bin/python "$@"\nexec {f}/bin/python "$@"', 'f() {{ return $X; }}\nf && exec {e}/bin/python "$@"\nexec {e}/bin/python "$@"',
    'exec sh -c "$1" sh "$@"', 'exec sh -c \'exec {e}/bin/python "$2"\' sh a "$@"', 'exec env -u PYTHONPATH {e}/bin/python "$@"', 'PYTHONPATH=/x exec env -u PYTHONPATH {e}/bin/python "$@"', 'exec env --unset PYTHONPATH A=1 {e}/bin/python "$@"', 'exec env -i {e}/bin/python "$@"', 'exec nice -n 5 {e}/bin/python -u "$@"', 'exec stdbuf -o L -e 0 {e}/bin/python "$@"', 'exec setsid {e}/bin/python "$@"', 'exec ionice -c 3 -n 2 nice {e}/bin/python "$@"', 'exec time -p {e}/bin/python "$@"',
    'f() {{ exec $1/bin/python "$2"; }}\nf {e} "$@"', 'f() {{ exec "$2/bin/python" x; }}\nf a {e}', 'f() {{ exec "$2/bin/python" x; }}\nf "$(x)" {e}', 'set -- {e} "$@"\nexec $1/bin/python "$@"', 'set -- {e}\nP=$1\nshift\nexec $P/bin/python "$@"', 'set a b\nexec {e}/bin/python $2 "$@"', 'set -e; false; exec {e}/bin/python "$@"', 'set -e; false || true; exec {e}/bin/python "$@"', 'set -e; set +e; false; exec {e}/bin/python "$@"', 'set -u; exec $GONE/bin/python "$@"', 'set -o allexport; exec {e}/bin/python "$@"',
    'P=$(cd {w} && cd ../heath; pwd)\nexec $P/bin/python "$@"', 'P=$(cd {w}/.. && pwd -P)\nexec $P/heath/bin/python "$@"', 'P=$(cd "$1" && pwd)\nexec $P/bin/python "$@"', 'P=$(cd {w} && ls)\nexec $P/bin/python "$@"', 'P=$(dirname {e}/bin/)\nexec $P/bin/python "$@"', 'P=$(dirname python)\nexec {e}/bin/$P/python "$@"', 'P=$(dirname /python)\nexec $P{e}/bin/python "$@"', 'P=$(basename {e}/)\nexec {w}/../$P/bin/python "$@"', 'P=$(basename {e}.sh .sh)\nexec {w}/../$P/bin/python "$@"', 'P=$(readlink -f {w}/linked)\nexec $P/bin/python "$@"', 'P=$(readlink {w}/linked)\nexec $P/bin/python "$@"', 'cd {w}; P=$(realpath linked)\nexec $P/bin/python "$@"', 'P=$(which python3)\nexec $P "$@"', 'P=$(command -v python9)\nexec $P "$@"', 'P=$(uname)\n[ "$P" = Linux ] && exec {e}/bin/python "$@"', 'P=`uname -m`\nexec {e}/bin/python "$@"', 'P=$(true; echo {e})\nexec $P/bin/python "$@"',
    'eval "P={e}"\nexec $P/bin/python "$@"', 'eval $X', 'eval "exec {e}/bin/python \\"$1\\""', '[ ! -d {e} ] || exec {e}/bin/python "$@"', '! [ -d {e} ] && exec {f}/bin/python "$@"\nexec {e}/bin/python "$@"', 'test ! -e /gone && exec {e}/bin/python "$@"', 'test {e} && exec {e}/bin/python "$@"', 'test "" && exec {f}/bin/python "$@"\nexec {e}/bin/python "$@"', '[ a = a ] && exec {e}/bin/python "$@"', '[ a == b ] || exec {e}/bin/python "$@"', '[ a != b ] && exec {e}/bin/python "$@"', '[[ abc == a* ]] && exec {e}/bin/python "$@"\nexec {e}/bin/python "$@"', '[ 1 -lt 2 ] && exec {f}/bin/python "$@"\nexec {e}/bin/python "$@"', '[ -L {w}/linked ] && exec {e}/bin/python "$@"', '[ -r {e} -a -d {e} ] && exec {f}/bin/python "$@"\nexec {e}/bin/python "$@"', '[ -x {e}/bin/python ] && [ -f {e}/pyvenv.cfg ] && exec {e}/bin/python "$@"', '[ -n "$HOME" ] && [ -z "$GONE" ] && exec {e}/bin/python "$@"', '[ -d linked ] && exec {e}/bin/python "$@"', 'test -S {e} && exec {f}/bin/python "$@"\nexec {e}/bin/python "$@"', '[ -d {e} && exec {e}/bin/python "$@"\nexec {f}/bin/python "$@"',
    'A={e}/bin/python\nexec ${{A#/home}} "$@"', 'A={e}/bin/python.sh\nexec ${{A%.sh}} "$@"', 'A={e}/bin/python\nexec ${{A%%/bin*}}/bin/python "$@"', 'A=x/y{e}\nexec ${{A##*y}}/bin/python "$@"', 'A={e}\nexec ${{A%z}}/bin/python "$@"', 'A={e}\nexec ${{A:?no}}/bin/python "$@"', 'exec ${{GONE:?no}}/bin/python "$@"', 'exec ${{GONE-{e}}}/bin/python "$@"', 'GONE=\nexec ${{GONE-{f}}}{e}/bin/python "$@"', 'GONE=\nexec ${{GONE:-{e}}}/bin/python "$@"', 'A=1\nexec ${{A:+{e}}}/bin/python "$@"', 'exec ${{GONE+{f}}}{e}/bin/python "$@"', 'A={e}\nexec ${{#A}}/bin/python "$@"', 'exec {e}/bin/python$((1)) "$@"', 'exec {e}/bin/python "a $@"', 'exec {e}/bin/python $*', 'exec "{e}/bin/python" "$*"', "exec {e}/bin/python $'a' \"$@\"", 'exec {e}/bin/python \\-u "$@"', 'exec {e}/bin/python $ "$@"', 'exec {e}/bin/python "$"', 'exec {e}/bin/python ${{!A}} "$@"', "exec {e}/bin/python `echo \\`x\\`` \"$@\"",
    'true | exec {f}/bin/python "$@"\nexec {e}/bin/python "$@"', '{e}/bin/python "$@" | cat', 'A=1 |\n cat\nexec {e}/bin/python "$@"', '(exec {e}/bin/python "$@")', 'if true\nthen exec {e}/bin/python "$@"\nelif x; then y\nelse z\nfi', 'if false; then :; elif true; then exec {e}/bin/python "$@"; fi', 'for p; do exec {e}/bin/python "$p"; done', 'for p in {e} {f}; do [ -d $p ] || continue; exec $p/bin/python "$@"; done', 'for p in a b; do break; done\nexec {e}/bin/python "$@"', 'for p in 1 2; do [ $p = 2 ] && exec {e}/bin/python "$@"; done', 'case a in [a-b]) exec {e}/bin/python "$@";; esac', 'case ab in (a*) exec {e}/bin/python "$@" ;; esac', 'function run {{ exec {e}/bin/python "$@"; }}\nrun "$@"', 'run() (\nexec {e}/bin/python "$@"\n)\nrun "$@"', 'cat <<A <<B\nx\nA\ny\nB\nexec {e}/bin/python "$@"', 'exec 2>/dev/null\nexec {e}/bin/python "$@" >&2', 'exec {e}/bin/python "$@" &', 'exec {e}/bin/python "$@" # x', 'fi', 'exec', 'shift\nexec {e}/bin/python "$@"', 'exit', 'return', 'source {w}/more\nexec $FROM_MORE/bin/python "$@"', '. more\nexec {e}/bin/python "$@"', '. {w}/gone\n', '. ./place/more\nexec $FROM_MORE/bin/python "$@"', 'A+=x\nexec {e}/bin/python "$@"', 'a=(1 2)\nexec {e}/bin/python "$@"', 'hive; exec {e}/bin/python "$@"', '"$X"; exec {e}/bin/python "$@"', 'command -v python3 && exec {e}/bin/python "$@"', 'command {e}/bin/python "$@"', 'command exec {e}/bin/python "$@"', 'hash -r; alias a=b; exec {e}/bin/python "$@"', 'exec python9 "$@"', 'exec bin/python "$@"', 'cd $X; exec bin/python "$@"', 'cd {w}; cd; exec heath/bin/python "$@"', '{e}/bin/python -c x; exec {f}/bin/python "$@"', '{e}/bin/python -m hive', '{e}/bin/python $X', 'PYTHONHOME=$X exec {e}/bin/python "$@"', 'export PYTHONHOME=/x; exec {e}/bin/python -s -B "$@"',
]  # fmt: skip


def world(more: dict[str, object]) -> MemoryReader:
    files = Files()
    files |= {f"{PLACE}/more": f"FROM_MORE={HEATH}\nreturn\nFROM_MORE=/x\n", f"{PLACE}/returns": "A=1\nreturn 0\nexec /no/python\n", f"{PLACE}/named": f"{HEATH}/bin/python", f"{PLACE}/first": f'#!/bin/sh\nexec {HEATH}/bin/python "$@"\n', f"{PLACE}/linked": Link(HEATH), "/bin/sh": BINARY, "/bin/bash": BINARY, "/bin/cat": BINARY, "/usr/bin/date": BINARY, "/usr/bin/env": BINARY, f"{HEATH}/bin/python3": Link("python"), f"{HOME}/e": Link(HEATH), f"{PLACE}/../e/x": ""}
    return MemoryReader("linux", {**files, **more}, home=HOME, folder=HOME, variables={"PATH": "/usr/bin:/bin", "HOME": HOME, "LANG": "C.UTF-8"})


@scene
def starters() -> Iterable[str]:
    """What a script of a shell starts in the end, or why only running it tells."""
    for text in [*FRONT, *ENDS, *LEFT, *OWN]:
        written = text.format(e=HEATH, f=ORCHARD, w=PLACE)
        if text in FRONT:
            written += f'\nexec {HEATH}/bin/python "$@"'
        before = ""
        for name in ("bash", "dash"):
            reader = world({f"{PLACE}/tool": written})
            try:
                start = start_of(reader, f"{PLACE}/tool", written, reader.variables, name)
                said = f"{start.path} {' '.join(start.words)} {dict(start.sets) or ''}"
            except Unsettled as problem:
                said = f"unsettled: {problem}"
            if said != before:
                yield f"{name} {written!r}: {said}"
            before = said


@scene
def first_lines() -> Iterable[str]:
    """Which interpreter a script's first line leads to."""
    for text in ("#!/usr/bin/python3.11\n", "#! /usr/bin/python3.11 -s -E\n", "#!/usr/bin/env python3\n", "#!/usr/bin/env -S python3 -u\n", "#!/usr/bin/env\n", "#!/usr/bin/env hive\n", f"#!{HEATH}/bin/python\n", "#!/bin/sh\n'''exec' \"/home/keeper/heath/bin/python\" \"$0\" \"$@\"\n' '''\n", f"#!/bin/sh\nexec {HEATH}/bin/python -m hive \"$@\"\n", "#!/bin/bash\n", "#!/gone/python\n", "#!\n", "#!relative/python\n", "import os\n", "", BINARY, b"#!/usr/bin/\xff\n", "#!/usr/bin/python3.11", "#!" + "/a" * 3000 + "\n", "#!/usr/bin/python3.11\r\n", "#!/bin/sh\nexec $X\n"):
        line = interpreter_of_script(world({f"{PLACE}/tool": text}), f"{PLACE}/tool")
        yield f"{str(text)[:90]!r}: {line}"


@scene
def module_files() -> Iterable[str]:
    """What module files set, by their literal lines, and which modules are loaded or there."""
    head = "#%Module1.0\n"
    rows = [
        ("tcl", head + f"prepend-path PATH {HEATH}/bin\nsetenv PYTHONHOME /x\nappend-path PATH /late\nprepend_path PATH /no\n"), ("tcl", head + 'set root "/opt/x"\nset bin ${root}/bin\nprepend-path PATH $bin\nprepend-path PYTHONPATH $root/lib\nprepend-path PATH $gone/bin\nprepend-path PATH [pwd]\n'), ("tcl", head + "prepend-path -d : PATH /a\nprepend-path --delim ; PATH /b\nprepend-path -x PATH /c\nprepend-path PATH\n"), ("tcl", "prepend-path PATH /a\n"), ("tcl", head + '# prepend-path PATH /a\nprepend-path PATH "/a b/bin" \n'), ("tcl", None),
        ("lua", 'prepend_path("PATH", "/a/bin")\nsetenv("PYTHONHOME", "/x")\nappend_path{"PATH", "/late"}\n'), ("lua", 'local root = "/opt/x"\nprepend_path("PATH", pathJoin(root, "bin"))\nprepend_path("PATH", root .. "/lib")\nprepend_path(\'PATH\', \'/a\' .. \'/b\')\nprepend_path("PATH", gone)\nprepend_path("PATH", gone .. "/x")\nprepend_path("PATH", pathJoin(gone, "x"))\n'), ("lua", '-- prepend_path("PATH", "/a")\nprepend_path("PATH", "/b") -- x\nbase = pathJoin("/a/", "b/")\nprepend_path("PATH", base)\n'), ("lua", "x = y\nprepend_path(PATH, x)\n"), ("lua", "prepend_path(\"PATH\", " + 'pathJoin(' * 60 + ")" * 60 + ")\n"), ("lua", 'prepend_path("PATH", "/a", ":")\n'),
    ]  # fmt: skip
    for number, (language, text) in enumerate(rows):
        path = f"{PLACE}/m{'.lua' if language == 'lua' else ''}"
        found = sitemodules.settings_of(world({path: text}), sitemodules.SiteModule("m", path))
        yield f"{number} {language}: {[(item.variable, item.value, item.line, item.adds) for item in found]}"
    reader = world({f"{PLACE}/mods/python/3.11": head, f"{PLACE}/mods/python/.hidden": "", f"{PLACE}/mods/mypython.lua": f'prepend_path("PATH", "{HEATH}/bin")\n', f"{PLACE}/mods/gcc/1": "", f"{PLACE}/mods/Python": head + "prepend-path PATH /usr/bin\n"})
    reader.variables |= {"MODULEPATH": f"relative:{PLACE}/mods:/gone:", "LOADEDMODULES": "a:b::c", "_LMFILES_": f"{PLACE}/mods/python/3.11:relative:/x"}
    yield f"there: {[(item.name, item.path) for item in sitemodules.available_modules(reader)]}"
    yield f"loaded: {[(item.name, item.path) for item in sitemodules.loaded_modules(reader)]}"
    yield f"prefixes: {list(sitemodules.module_prefixes(reader))}"


@pytest.mark.parametrize("name", SCENES.names)
def test_scripts_read(name):
    assert not (difference := SCENES.difference(name)), difference[:6000]
