"""What each kind of seat starts on machines in memory, word for word (seats/*.txt): shells' words, editors, checkers, processes, servers.

``KALYX_DRAW=1`` writes the files again; read the difference then.
"""

from __future__ import annotations

import json
from collections.abc import Iterable

import pytest

from kalyx.core.kernels.folders import Server
from kalyx.core.machine import Machine
from kalyx.core.model.records import Kernel, Seat
from kalyx.core.seats import (
    answering,
    callers,
    editor,
    notebook,
    pasted,
    process,
    program,
    running,
    server,
    shell,
    shell_words,
    startfiles,
    workspaces,
)
from kalyx.core.seats.path import path_seat
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.reader import Process
from kalyx.core.targets import default_seat, resolve
from kalyx.core.text.shells import SHELLS
from tests.made import BINARY, HOME, Files
from tests.support.scenes import Scenes, on, plus, told

SCENES = Scenes("core/seats")
scene = SCENES.add
HEATH, SPRING = f"{HOME}/heath", f"{HOME}/spring"


def seat_lines(seat: Seat | None) -> Iterable[str]:
    """Everything that is told of a seat."""
    return [] if seat is None else [line[:400] for line in _told_of(seat)]


def _told_of(seat: Seat) -> Iterable[str]:
    where = f" <{seat.source}{f', line {seat.line}' if seat.line else ''}>" if seat.source else ""
    yield f"{seat.seat} {seat.name}: {seat.interpreter and seat.interpreter.executable}{where}{' undecided' if seat.undecided else ''}"
    for what in ("label", "reason", "via", "nearest", "folder", "pid", "started"):
        if (value := getattr(seat, what)) is not None and value != seat.source:
            yield f"  {what}: {value}"
    for what in ("started_by", "changed_since", "compiled", "variables"):
        value = getattr(seat, what)
        if value := {name: text for name, text in value.items() if text} if what == "variables" else value:
            yield f"  {what}: {value}"
    for part in seat.parts:
        defined = f", defined {part.defined.fact} at {part.defined.path}:{part.defined.line}" if part.defined else ""
        yield f"  {part.role} {part.word}: {part.path} {part.links} {part.interpreter and part.interpreter.prefix} {part.reason or ''}{' undecided' if part.undecided else ''}{defined}"


def machine(more: dict[str, object], system: str = "linux", **words: object) -> MemoryReader:
    """The made-up machine with more files: a path that starts with no separator lies in the folder, ``~`` is the home."""
    files = Files()
    for path, content in more.items():
        files[path.replace("~", HOME, 1) if path.startswith("~") else path if path.startswith("/") else f"{SPRING}/{path}"] = content
    variables = {"PATH": "/usr/bin", "HOME": HOME, **words.pop("variables", {})}  # type: ignore[dict-item]
    return MemoryReader(system, files, home=HOME, **{"folder": SPRING, "variables": variables, **words})


# -- shells -------------------------------------------------------------------------

LINES = [
    "alias python3=/a\nalias python='\\python3'", "python() { \\python3; }\nalias python3=/a", "python() { 'python3'; }\nalias python3=/a", "python3() { /b; }\nalias python3=/a\nalias python='\\python3'",
    "alias python '/a/python'", "alias python \"'/a b/python'\"", "alias python '/a/b' '/c'", "alias python '/a", "alias python \"/a/python\"", "alias python /a/python -X dev", "alias python '/a/it''s'", "alias p python\nalias python p", "alias p=python\nalias python=p", "alias p=/a/python\nalias python='p -s'",
    "alias python=python3", "alias python='python3.11 -X dev'", 'alias pip="~/heath/bin/pip" python3=$HOME/heath/bin/python', "alias -g python=/x", "alias python", "alias python=$(which python3)", "alias python='cd /; python3'", "alias python='env A=1 -u B python3'", "alias python='A=1 nohup python3'", "alias python='command python'", "alias python=\"python3", "alias python python3", "alias python 'python3 -u'", "alias --save python=python3", "builtin alias python=python3",
    "python() { python3 \"$@\"; }", "function python { command python \"$@\"; }", "python () {\n  if true; then\n    x\n  fi\n}", "python()\n{\n  ~/heath/bin/python \"$@\"\n}", "python() ( python3 )", "function py-thon { x; }", "python() { python; }", "function python; ~/heath/bin/python $argv; end", "function python\n  if test x\n    echo\n  end\nend", "alias p=python\nalias python=p", "alias hive=python\npython() { x; }", "alias python=x\npython() {\n y\n}",
    "if true; then\n alias python=/a\nfi\n", "if true; then alias python=/a; else alias pip=/b; fi", "test -n x && alias python=/a", "case x in\n y) alias python=/a;;\nesac\nalias pip=/b", "for x in a b; do alias python=/a; done", "alias python=/a\nunalias python", "alias python=/a\nif x; then\nunalias python pip\nfi", "python() { x; }\nunset -f python", "python() { x; }\nunset python", "function python; x; end\nfunctions -e python", "alias python=/a; alias pip=/b # alias python3=/c", "alias python=/a;# no\necho 'alias pip=/b'",
    "hash -p /a/python python", "hash python=/a/python", "hash -p $X/python python", "hash -d python", "unhash python", "alias python=/a\nunhash -a python", "python() { x; }\nunhash -f python", "hash python=/a\nunhash -d python\nunhash python", "alias python=/a\nif x; then\nalias -g python=/b\nfi", ". ~/more\n", "source $HOME/more", "source more", "source $(x)", ". ./more; . /gone", "if x; then . ~/more; fi", "eval \"$(hive init)\" python", "eval python", "typeset -f python", "set -x\\\n; alias python=/a", "# alias python=/a\n\n", "setup() {\n alias python=/a\n}\nsetup", "setup() {\n python() { x; }\n}\nif setup; then x; fi", "f() {\n g\n}\ng() {\n alias pip=/p\n}\nf",
    "exec alias python=/a", "alias 'python'=/a", "alias python=", "alias python=\"\\$X/python\"", "alias python='\"$X\"/python'", "alias python='time ~/heath/bin/python'", "alias python='noglob exec python3'", "alias python='env -i python3'", "alias python='python3 \"$@\"'", "alias python 'python3 \\!*'", "if ( -e x ) alias python /a", "if ( -e x ) then\nalias python /a\nendif\nalias pip /b", "python() { x; } ; alias pip=/b", "f() {\n echo ${HOME}\n alias python=/x\n}\nalias pip=/y", "python() { echo ${HOME}; }; alias pip=/y", "python() { python3 }\nalias pip=/y", "alias python=~", "alias python='~/heath/bin/python' && x", "function _p { python3; }; alias python=_p", "alias pypy3=python3 pip3.11=pip",
]  # fmt: skip


@scene
def words_of_shells() -> Iterable[str]:
    """What start files make of the words of Python, line by line, in each language of shells."""
    for name, file in (("bash", "~/.bashrc"), ("zsh", "~/.zshrc"), ("fish", "~/.config/fish/config.fish"), ("tcsh", "~/.tcshrc"), ("dash", "~/.env"), ("mksh", "~/.mkshrc")):
        for line in LINES:
            reader = machine({file: line + "\n", "~/more": "alias python=/more/python\n", "more": "alias pip=/near/pip\n"}, variables={"ENV": f"{HOME}/.env"} if name == "dash" else {})
            taken = shell_words.meanings(reader, callers.ShellFound(name, None, ""))
            rows = {word: taken.followed(word) for word in ("python", "python3", "pip")}
            text = "; ".join(f"{word}: " + " > ".join(f"{item.kind} {item.words and ' '.join(item.words)} ({item.reach}, {item.line})" for item in found) for word, found in rows.items() if found)
            others = sorted({meaning.word for meaning in taken.of_python()} - set(rows))
            yield f"{name} | {line!r} | {text}{f' and {others}' if others else ''}"


@scene
def files_of_shells() -> Iterable[str]:
    """Which start files a shell reads, by how it was started; what the ones say that are read line by line."""
    names = ["/etc/bash.bashrc", ".bashrc", "/etc/profile", ".bash_profile", ".bash_login", ".profile", "/etc/zsh/zshenv", ".zshenv", "/etc/zsh/zprofile", ".zprofile", "/etc/zsh/zshrc", ".zshrc", "/etc/zsh/zlogin", ".zlogin", ".env", ".kshrc", ".mkshrc", ".config/fish/conf.d/a.fish", ".config/fish/conf.d/a.txt", "/etc/fish/config.fish", ".config/fish/config.fish", ".config/fish/functions/python.fish", ".config/fish/functions/x.fish", "/etc/csh.cshrc", ".tcshrc", ".cshrc", "/etc/csh.login", ".login"]
    for name in SHELLS:
        for typed, login in ((True, False), (False, False), (True, True), (False, True)):
            before: list[str] = []
            for variables in ({}, {"ENV": "~/.env"}, {"ENV": "$X/y", "ZDOTDIR": f"{HOME}/z"}):
                files: dict[str, object] = {path if path.startswith("/") else f"~/{path}": f"alias python{number}=/x\nalias pypy{number} /x\n" for number, path in enumerate(names, 10)}
                taken = shell_words.meanings(machine({**files, "~/z/.zshrc": "alias python99=/x"}, variables=variables), callers.ShellFound(name, None, "", typed, login))
                found = [meaning.path.replace(HOME, "~") for meaning in taken.of_python()]
                if found and (not variables or found != before):
                    yield f"{name}, {'typed into' if typed else 'not'}{', login' if login else ''}, {variables}: {found}"
                before = found
    yield f"not on Windows: {shell_words.meanings(machine({'~/.bashrc': 'alias python=/x'}, 'windows'), callers.ShellFound('bash', None, '')).of_python()}"
    lines = "Set-Alias python C:\\a\\python.exe\nset-alias -Force -Name pip3.11 x\n function python3 { x }\nfunction hive { x }\naliases['python'] = 'x'\naliases[\"pypy\"]= y\nset-alias pythons x\n"
    for name, files in (("pwsh", {"~/.config/powershell/profile.ps1": lines}), ("xonsh", {"~/.xonshrc": lines}), ("bash", {"~/.bashrc": "alias python=/a\n", "~/.profile": "alias pip=/b\nalias pip=/c\n"}), ("cmd", {}), ("none", {})):
        yield f"taken over in {name}: {[(item.kind, item.word, item.text, item.line, item.words) for item in startfiles.taken_over(machine(files), name)]}"
    deep = {f"~/f{number}": f"alias python=/{number}\n. ~/f{number + 1}\n" for number in range(8)}
    for title, files in (("files that read files", {**deep, "~/.bashrc": ". ~/f0\n"}), ("a file that reads itself", {"~/.bashrc": "alias python=/a\n. ~/.bashrc\nalias pip=/b\n"}), ("no permission", {"~/.bashrc": None}), ("a folder", {"~/.bashrc/x": ""}), ("a function called many times", {"~/.bashrc": "f() {\n" + " x\n" * 400 + "}\n" + "if f; then x; fi\n" * 2600 + "alias python=/a\n"})):
        taken = shell_words.meanings(machine(files), callers.ShellFound("bash", None, ""))
        yield f"{title}: {[(item.word, item.path, item.line, item.words) for item in taken.of_python()]}"


@scene
def shells() -> Iterable[str]:
    """The shell's seat: what its words start."""
    rows: list[tuple[str, str, dict[str, object], dict[str, object]]] = [
        ("as it is", "bash", {}, {}), ("an environment first", "bash", {}, {"variables": {"PATH": f"{HEATH}/bin:/usr/bin", "VIRTUAL_ENV": HEATH, "PYTHONPATH": "/x", "SECRET_TOKEN": "no"}}), ("a home in PATH", "bash", {}, {"variables": {"PATH": "~/heath/bin:/usr/bin"}}), ("a home in PATH that stays a word", "zsh", {}, {"variables": {"PATH": "~/heath/bin:/usr/bin"}}), ("only a home in PATH", "bash", {}, {"variables": {"PATH": "~"}}), ("no PATH", "bash", {}, {"variables": {"PATH": ""}}),
        ("an alias", "bash", {"~/.bashrc": f"alias python={HEATH}/bin/python pip='python -m pip'\n"}, {}), ("an alias of nothing", "bash", {"~/.bashrc": "alias python=/gone/python\n"}, {}), ("an alias that is worked out", "bash", {"~/.bashrc": "alias python=$(x)\n"}, {}), ("a function of a name on no PATH", "bash", {"~/.bashrc": "pip() { hive \"$@\"; }\n"}, {}), ("an alias of an installer", "bash", {"~/.bashrc": f"alias pip={HEATH}/bin/pip\n"}, {}), ("an installer that is a Python", "zsh", {"~/.zshrc": f"alias pip='{HEATH}/bin/python -m pip'\n"}, {}), ("a remembered place", "bash", {"~/.bashrc": f"hash -p {HEATH}/bin/python python\n"}, {}),
        ("an installer of nothing", "bash", {"/usr/bin/pip": "#!/gone/python\n"}, {}), ("an installer that is a program", "bash", {"/usr/bin/pip": BINARY}, {}), ("a text named python", "bash", {"/usr/bin/python": "hello"}, {}), ("a link that leads nowhere", "bash", {"/usr/bin/python": Link("/gone")}, {}), ("a script that starts it", "bash", {"/usr/bin/python": "#!/bin/sh\nexec /usr/bin/python3.11 -s \"$@\"\n", "/bin/sh": BINARY}, {}), ("no permission", "bash", {"/usr/bin/python": None}, {}), ("a folder that is shut", "bash", {"/opt/bin/python": BINARY, "/opt/bin": Shut()}, {"variables": {"PATH": "/opt/bin:/usr/bin"}}),
    ]  # fmt: skip
    for title, name, files, words in rows:
        reader = machine(files, **words)
        yield from told(title, lambda: seat_lines(shell.read_shell(reader, callers.ShellFound(name, None, ""))))
    for word in ("python3", "pip", "hive", "gone"):
        yield from told(f"program {word}", lambda: seat_lines(program.program_seat(machine({"/usr/bin/hive": f"#!{HEATH}/bin/python\n", "/usr/bin/pip": "#!/gone/python\n"}), word)))
    for path in (HEATH, f"{HEATH}/bin", "/usr", f"{HEATH}/bin/python", f"{HEATH}/bin/pip", f"{HOME}/gone", f"{HOME}/haeth", HOME, f"{HOME}/empty"):
        yield from told(f"path {path}", lambda: seat_lines(path_seat(machine({"~/empty/pyvenv.cfg": "home = /gone\n"}), path)))


OWN = {"family": "own", "form": "own file", "format": "json", "files": ["other.json"], "choices": [{"key": ["python"], "part": "run", "kind": "interpreter"}]}


# -- editors ------------------------------------------------------------------------


@scene
def editors() -> Iterable[str]:
    """What settings files choose, and what stands against it."""
    def settings(value: object, key: str = "python.defaultInterpreterPath") -> dict[str, object]:
        return {".vscode/settings.json": json.dumps({key: value})}

    values = [f"{HEATH}/bin/python", HEATH, "../heath", "./env/bin/python", "~/heath", "${userHome}/heath", "${workspaceFolder}/../heath/bin/python", "${workspaceFolderBasename}/x", "${workspaceFolder:spring}/../heath", "${workspaceFolder:other}/x", "${env:HOME}/heath", "${env:GONE}/heath", "${env:NEST}/heath", "${config:x}", "$USER_HOME$/heath", "python", "python3", "pyhton3", "hive", "", "/gone/bin/python", f"{HOME}/haeth/bin/python", f"{HOME}/heath/bin/pythn", "/usr/bin", SPRING, "file:///usr/bin/python3", "ssh://moor/x", "\\\\wsl$\\moor\\x", "//wsl.localhost/x", "a\0b", "x" * 70000, 3, None, ["python3"], {"linux": "python3"}]  # fmt: skip
    for value in values:
        yield from told(f"path {str(value)[:60]!r}", lambda: [line for seat in editor.editor_seats(machine(settings(value), variables={"NEST": "${env:NEST}"}), SPRING) for line in seat_lines(seat)])
    mine = {"~/.config/Hive/User/settings.json": json.dumps({"python.defaultInterpreterPath": f"{HEATH}/bin/python"})}
    rows: list[tuple[str, dict[str, object]]] = [
        ("the user's own, no Python here", mine), ("the user's own", {**mine, "weigh.py": ""}), ("the user's own, a project", {**mine, "pyproject.toml": ""}), ("the folder's before the user's", {**mine, **settings("/usr/bin/python3"), "weigh.py": ""}), ("another part each", {".vscode/settings.json": json.dumps({"python.defaultInterpreterPath": HEATH, "python.analysis.pythonPath": "/usr/bin/python3", "pylint.interpreter": ["/usr/bin/python3"], "mypy-type-checker.interpreter": [f"{HOME}/orchard/bin/python"], "terminal.integrated.env.linux": {"VIRTUAL_ENV": HEATH}})}), ("no JSON", {".vscode/settings.json": "{"}), ("not UTF-8", {".vscode/settings.json": b"\xff\xfe\xfd"}), ("UTF-16", {".vscode/settings.json": b"\xff\xfe" + json.dumps({"python.pythonPath": HEATH}).encode("utf-16-le")}), ("no permission", {".vscode/settings.json": None}), ("the user's own is broken", {"~/.config/Hive/User/settings.json": "{", "weigh.py": ""}),
        ("run configurations", {".vscode/launch.json": json.dumps({"configurations": [{"name": "A", "python": f"{HEATH}/bin/python"}, {"name": "B", "pythonPath": "python3"}, {"name": "A", "python": "/other"}, {"python": "/no/name"}]})}), ("tasks", {".vscode/tasks.json": json.dumps({"tasks": [{"label": "a", "command": "python3 x.py"}, {"label": "b", "command": "make"}, {"label": "c", "command": ""}, {"label": "d", "command": "C:\\Py\\python.exe x"}]})}), ("build commands", {"moor.sublime-project": json.dumps({"build_systems": [{"name": "Hive", "cmd": ["python3", "-u"]}, {"name": "C", "shell_cmd": "make"}, {"name": "D", "shell_cmd": f"{HEATH}/bin/python -u $file"}], "settings": {"python_interpreter": "$project_path/../heath/bin/python"}})}),
        ("a chosen configuration", {".idea/workspace.xml": f'<project><component name="RunManager" selected="Python.W"><configuration name="W"><option name="SDK_HOME" value="{HEATH}/bin/python"/></configuration><configuration name="V"><option name="SDK_HOME" value="$PROJECT_DIR$/../orchard"/></configuration></component></project>'}), ("a name that a table gives", {".idea/misc.xml": '<component name="ProjectRootManager" project-jdk-name="Heath"/>', "~/.config/Hive/ide1/options/jdk.table.xml": '<x><jdk version="2"><name value="Heath" /><homePath value="$USER_HOME$/heath/bin/python" /></jdk></x>'}), ("a name that no table gives", {".idea/misc.xml": '<component name="ProjectRootManager" project-jdk-name="Heath"/>', "~/.config/Hive/ide1/options/jdk.table.xml": '<x><jdk version="2"><name value="Orchard" /></jdk>'}),
        ("a container", {".devcontainer/devcontainer.json": '{"image": "moor/x"}'}), ("a container's file", {".devcontainer.json": '{"build": {"dockerfile": "D"}}'}), ("a version", {".python-version": "3.11\n3.9\n", ".vscode/settings.json": "{}"}), ("a name as a version", {".python-version": "heath\n"}), ("folder variables", {".dir-locals.el": f'((python-mode . ((python-shell-interpreter . "{HEATH}/bin/python") (python-shell-virtualenv-root . "/gone") (flycheck-python-mypy-python-executable . "python3"))))'}), ("a row of the user's own", {"~/.config/kalyx/kalyx-editors.json": json.dumps({"descriptors": [{"family": "own", "form": "own file", "format": "json", "files": ["hive.json"], "choices": [{"key": ["python"], "part": "run", "kind": "interpreter"}]}, {"family": 3}, 1, {**OWN, "choices": [{}]}, {**OWN, "format": "yaml"}, {**OWN, "format": "xml"}]}), "hive.json": json.dumps({"python": HEATH})}), ("comments and a mark", {".vscode/settings.json": '\ufeff{ // mine\n "x": 1, "python.defaultInterpreterPath": "~/heath/bin/python", /* , */ }'}), ("written twice", {".vscode/settings.json": '{"python.defaultInterpreterPath": 3, "python.defaultInterpreterPath": "~/heath"}'}), ("a list of other things", {".vscode/settings.json": '{"python.defaultInterpreterPath": ["a", 1]}'}), ("a workspace's settings, without folders", {"moor.code-workspace": '{"folders": [], "settings": {"python.defaultInterpreterPath": "~/heath"}}'}), ("comments of Lisp", {".dir-locals.el": ';; (python-shell-interpreter . "/no")\n((python-mode . ((python-shell-interpreter . "~/heath/bin/python"))))'}), ("a comment in a version file", {".python-version": "# mine\n3.11.4\n"}), ("a checker's table", {"pyproject.toml": '[tool.mypy]\npython_executable = "~/heath/bin/python"\n'}), ("rows that are no table", {"~/.config/kalyx/kalyx-editors.json": "[]", **settings(HEATH)}),
        ("an interpreter for a checker", {"pyrightconfig.json": '{"venvPath": "..", "venv": "heath"}'}), ("no folder for it", {"pyrightconfig.json": '{"venv": "heath"}'}), ("what it extends", {"pyrightconfig.json": '{"extends": "base.json"}', "base.json": '{"venvPath": "..", "venv": "heath"}'}), ("it extends what extends", {"pyrightconfig.json": '{"extends": "in/base.json", "venv": "heath"}', "in/base.json": '{"extends": "more.json"}', "in/more.json": '{"venvPath": "../.."}'}), ("it extends itself", {"pyrightconfig.json": '{"extends": "./pyrightconfig.json"}'}), ("it extends another form", {"pyrightconfig.json": '{"extends": "pyproject.toml"}', "pyproject.toml": '[tool.pyright]\nvenvPath = ".."\nvenv = "heath"\n'}),
        ("a project that extends", {"pyproject.toml": '[tool.pyright]\nextends = "base.toml"\n', "base.toml": '[tool.pyright]\nvenvPath = ".."\nvenv = "heath"\n'}), ("a project with that word outside", {"pyproject.toml": 'extends = "base.toml"\n[tool.pyright]\nvenv = "heath"\n', "base.toml": '[tool.pyright]\nvenvPath = ".."\nvenv = "heath"\n'}), ("an environment without packages", {"pyrightconfig.json": '{"venvPath": "..", "venv": "haeth"}'}), ("a version for a checker", {"pyrightconfig.json": '{"pythonVersion": "3.9"}'}), ("built upon another", {"pyrightconfig.json": '{"extends": "base/x.json"}', "base/x.json": '{"venvPath": "../..", "venv": "heath", "extends": "../pyrightconfig.json"}'}), ("built upon nothing", {"pyrightconfig.json": '{"extends": "gone.json", "venvPath": "..", "venv": "orchard"}'}), ("broken, for a checker", {"pyrightconfig.json": "{", "pyproject.toml": "[tool.pyright]\nvenvPath = '..'\nvenv = 'heath'\n"}), ("above", {"~/pyrightconfig.json": '{"venvPath": ".", "venv": "heath"}'}), ("another checker", {"mypy.ini": "[mypy]\npython_executable = ${MYPY_CONFIG_FILE_DIR}/../heath/bin/python\npython_version = 3.9\n"}), ("its section is missing", {"mypy.ini": "[x]\n", "setup.cfg": "[mypy]\npython_executable = ~/heath/bin/python\n"}), ("a variable of no value", {"setup.cfg": "[mypy]\npython_executable = $GONE/python\n"}), ("a repository ends the search", {"~/mypy.ini": "[mypy]\npython_executable = python3\n", ".git/HEAD": ""}), ("the user's own for a checker", {"~/.mypy.ini": "[mypy]\npython_executable = python3\n", "weigh.py": ""}), ("a mark at the beginning", {"mypy.ini": "\ufeff[mypy]\npython_executable = python3\n"}), ("only a version", {"mypy.ini": "[mypy]\npython_version = 3.8\n"}),
    ]  # fmt: skip
    for title, files in rows:
        yield from told(title, lambda: [line for seat in editor.editor_seats(machine(files), SPRING) for line in seat_lines(seat)])
        named = next((path for path in files if not path.startswith(("~", "/"))), None)
        if named is not None:
            reader = machine(files)
            path = f"{SPRING}/{named}"
            yield f"  governs {editor.settings_folder(reader, path)}, chooses {[(seat.name, seat.interpreter and seat.interpreter.prefix) for seat in editor.choices_for(reader, SPRING, path)]}"
    both = json.dumps({"folders": [{"path": "."}, {"path": "../moor", "name": "M"}, {"path": "../gone"}, {"path": 3}, "x"], "settings": {"python.defaultInterpreterPath": "${workspaceFolder:M}/../heath"}})
    for title, text in (("a workspace", both), ("an empty workspace", '{"folders": []}'), ("no workspace", "[")):
        reader = machine({"w.code-workspace": text, "~/moor/.vscode/settings.json": json.dumps({"python.pythonPath": "${workspaceFolder}/../orchard"}), "~/moor/x.py": ""})
        yield from told(title, lambda: [*(f"{path}: {[(item.name, item.path) for item in opened]}" for path, opened in workspaces.opened_in(reader, SPRING)), *(line for seat in editor.editor_seats(reader, SPRING) for line in seat_lines(seat))])


SCRIPTS = [
    "PATH_add ../heath/bin", "path_add /gone ../heath/bin", "export PATH=$PWD/../heath/bin:$PATH", "export PATH=\"$HOME/heath/bin:$PATH\"", "PATH=/x", "PATH=../heath/bin:$PATH; export PATH", "layout python3", "layout python", "layout ruby", "layout", "source ../heath/bin/activate", ". ../heath/bin/activate", "source gone", "if true; then\n PATH_add ../heath/bin\nfi", "if [ -d ../heath ]; then PATH_add ../heath/bin; fi", "export VIRTUAL_ENV=../heath\nPATH_add \"$VIRTUAL_ENV/bin\"", "watch_file x\nlog_status y", "hive_add x", "eval \"$(x)\"", "export PATH=$(x):$PATH", "X=`x`\nPATH_add $X", "use python", "", "# PATH_add ../heath/bin", "PATH_add", "PATH_add 'a b' ${X:-../heath/bin}", "export PATH=${X:+../heath/bin:}$PATH", "unset PATH", "export PATH=", "[ -n \"$X\" ] && PATH_add ../heath/bin", "for x in heath; do PATH_add ../$x/bin; done", "f() { PATH_add ../heath/bin; }\nf", "cd ../heath\nPATH_add bin", "PATH+=:../heath/bin", "export PATH+=:../heath/bin", "PATH_add bin", "X=a; X+=b; PATH_add ../heath/bin/${X#ab}", "export -n PATH", "case x in x) PATH_add ../heath/bin;; esac", "PATH_add ../heath/bin || true", "! true", "(PATH_add ../heath/bin)", "{ PATH_add ../heath/bin; }", "PATH_add \"../heath/bin", "PATH_add ../heath/bin > /dev/null 2>&1", "while true; do x; done", "set -e\nPATH_add ../heath/bin", "true\\\n; PATH_add ../heath/bin", "PATH=~/heath/bin:$PATH", "read X", "export X=1 PATH=../orchard/bin",
]  # fmt: skip


@scene
def variable_files() -> Iterable[str]:
    """What python is after a folder's variable file was loaded."""
    for text in SCRIPTS:
        reader = machine({".envrc": text + "\n", ".direnv/python-3.11/bin/python": Link("/usr/bin/python3.11"), "~/heath/bin/activate": f"VIRTUAL_ENV={HEATH}\nexport VIRTUAL_ENV\nPATH=\"$VIRTUAL_ENV/bin:$PATH\"\nexport PATH\n"})
        yield from told(repr(text), lambda: [line for seat in editor.editor_seats(reader, SPRING) for line in seat_lines(seat)])
    for title, files, folder in [("above", {"~/.envrc": "PATH_add heath/bin\n"}, SPRING), ("not on Windows", {".envrc": "PATH_add x"}, SPRING), ("no permission", {".envrc": None}, SPRING), ("two layouts", {".envrc": "layout python\n", ".direnv/python-3.11/x": "", ".direnv/python-3.9/x": ""}, SPRING)]:
        reader = machine(files, "windows" if "Windows" in title else "linux")
        yield from told(title, lambda: [line for seat in editor.editor_seats(reader, folder) for line in seat_lines(seat)])


# -- what runs ----------------------------------------------------------------------


def live(pid: int, parent: int | None, *command: str, executable: str | None = "/usr/bin/python3.11", folder: str | None = SPRING, variables: dict[str, str] | None = None, started: float | None = 100.0, leads: bool = False) -> Process:
    return Process(pid, parent, executable, command, folder, variables, started, "", leads)


@scene
def processes() -> Iterable[str]:
    """Programs that run: what starts them, who started them, what changed since."""
    kernel = (f"{HEATH}/bin/python", "-m", "ipykernel_launcher", "-f", f"{HOME}/run/kernel-a1.json")
    table = [
        live(1, None, "/sbin/init", executable="/sbin/init"), live(20, 1, "/usr/bin/tmux", executable="/usr/bin/tmux"), live(21, 20, "-bash", executable="/bin/bash", leads=True), live(22, 21, "/usr/bin/code", "--x", executable="/usr/bin/code"),
        live(30, 21, f"{HEATH}/bin/python", "weigh.py", "--token=secret"), live(31, 22, "python3", f"{SPRING}/serve.py", folder="/", variables={"PATH": "/usr/bin", "PYTHONPATH": "/x", "SECRET": "x"}), live(32, 30, f"{HOME}/orchard/bin/python", "-c", "import x", folder=f"{SPRING}/deep"), live(33, 1, "/gone/python", "x.py", executable="/gone/python"), live(34, 1, "python3", "x.py", executable=None), live(35, 1, "python3", executable="/usr/bin/python3.11 (deleted)"), live(36, 1, "/usr/bin/python3", "-m", "hive.run", folder="/moor"), live(43, 1, "/opt/old/python3.9", "x.py", executable="/opt/old/python3.9 (deleted)"), live(44, 1, "python3", "x.py", executable="/opt/old/python3.9 (deleted)", variables={"PATH": "/usr/bin"}), live(45, 1, "python3", "x.py", executable="/usr/bin/python3.11 (deleted)", variables={"PATH": "/usr/bin"}), live(46, 1, f"{HEATH}/bin/python", "x.py", executable="/other/python3.11"), live(47, 1, "python3", "x.py", executable="/other/python3.11", variables={}), live(37, 1, *kernel), live(38, 1, "/usr/bin/ruby", executable="/usr/bin/ruby"), live(39, 21, "bash", "run.sh", executable="/bin/bash"), live(40, 39, "python3", "-m", "kalyx"), live(41, 1, "relative/python", "x", folder=HEATH), live(42, 1, executable="/usr/bin/python3.11"),
    ]  # fmt: skip
    files = {"~/heath/lib/python3.11/site-packages/hive-1.0.dist-info/METADATA": "Name: hive\nVersion: 1.0\n", "~/heath/lib/python3.11/site-packages/wax-2.dist-info/METADATA": "Name: wax\nVersion: 2\n"}
    reader = machine(files, processes={item.pid: item for item in table}, pid=40)
    site = f"{HEATH}/lib/python3.11/site-packages"
    reader.modified = {site: 200 * 10**9, f"{site}/hive-1.0.dist-info": 150 * 10**9, f"{site}/wax-2.dist-info": 50 * 10**9}
    reader.loaded_by = lambda pid: [f"{site}/hive/_comb.so", f"{site}/hive/_wax.so", "/usr/lib/libc.so", "/usr/lib/python3/dist-packages/peat.so", f"{site}/x.py"]  # type: ignore[method-assign]
    yield f"of the folder: {[item.pid for item in process.programs_of(reader, SPRING)]}, of Python: {[item.pid for item in callers.python_processes(reader)]}, caller {callers.find_caller(reader)}"
    for item in table[4:]:
        yield from told(f"process {item.pid}: {' '.join(item.command)}", lambda: [*seat_lines(process.program_running(reader, item)), f"editor {process.editor_of(reader, item)}, connection {callers.connection_file_of(item)}, as {callers.started_as(reader, item)}, called {callers.program_name(item)}"])
    for words in (("-f", "x.json"), ("-f", "x.txt"), ("-f",), ("--f=x.json",), ("--connection-file", "/a.json"), ("--connection-file=/a.json",), ("-f", "a", "-f", "b.json")):
        yield f"connection in {words}: {callers.connection_in(('python', *words))}"
    windows = {7: live(7, 6, "C:\\env\\Scripts\\python.exe", "x.py", executable="C:\\env\\Scripts\\python.exe", folder="C:\\moor"), 8: live(8, 7, "C:\\Py\\python.exe", "x.py", executable="C:\\Py\\python.exe", folder="C:\\moor"), 6: live(6, None, "C:\\Windows\\cmd.exe", "/k", executable="C:\\Windows\\cmd.exe")}
    other = MemoryReader("windows", {"C:\\env\\Scripts\\python.exe": b"MZ"}, processes=windows, pid=99)
    yield f"on Windows: {[item.pid for item in callers.python_processes(other)]}, 8 was started as {callers.started_as(other, windows[8])}, shell {callers.find_shell(other)}"


@scene
def servers() -> Iterable[str]:
    """Notebook servers that run, the kernels that they run, and which of them answers."""
    lab = ("/usr/bin/python3.11", "/usr/bin/jupyter-lab")
    kernel = (f"{HEATH}/bin/python", "-m", "ipykernel_launcher", "-f", f"{HOME}/.local/share/jupyter/runtime/kernel-a1.json")
    table = [
        live(1, None, "/sbin/init", executable="/sbin/init"), live(50, 1, *lab, variables={"PATH": f"{HEATH}/bin:/usr/bin", "HOME": HOME}, started=90.0), live(51, 1, *lab, folder=HOME, variables={"JUPYTER_RUNTIME_DIR": "/srv/run"}, started=95.0), live(52, 1, *lab, executable="/gone/python"), live(53, 1, *lab, started=500.0),
        live(60, 50, *kernel), live(61, 51, *kernel[:-1], "/srv/run/kernel-b2.json"), live(62, 52, *kernel[:-1], "/srv/kernel-c3.json", variables={"JPY_SESSION_NAME": f"{SPRING}/other.ipynb"}), live(63, 50, "sh", "-c", "x", "-f", "/srv/kernel-d4.json", executable="/bin/sh"),
    ]  # fmt: skip
    run = "~/.local/share/jupyter/runtime"
    files: dict[str, object] = {
        f"{run}/jpserver-50.json": json.dumps({"pid": 50, "port": 8888, "root_dir": SPRING, "token": "t", "base_url": "/moor/"}), "/srv/run/jpserver-51.json": json.dumps({"pid": 51, "port": 8889, "notebook_dir": HOME, "secure": True}), f"{run}/nbserver-52.json": json.dumps({"pid": 52, "port": True}), f"{run}/jpserver-53.json": json.dumps({"pid": 53, "port": 70000, "root_dir": SPRING}), f"{run}/jpserver-54.json": json.dumps({"pid": 54}), f"{run}/jpserver-55.json": "[]", f"{run}/jpserver-56.json": "{", f"{run}/jpserver-57.txt": "", f"{run}/jpserver-58.json": None,
        "weights.ipynb": "{}", "other.ipynb": "{}",
    }  # fmt: skip
    reader = machine(files, processes={item.pid: item for item in table}, pid=99)
    reader.modified = {f"{HOME}/.local/share/jupyter/runtime/jpserver-{pid}.json": 100 * 10**9 for pid in (50, 53)}
    reader.modified |= {"/srv/run/jpserver-51.json": 100 * 10**9, f"{HOME}/.local/share/jupyter/runtime/nbserver-52.json": 100 * 10**9}
    running_ones = server.running_servers(reader)
    for item in running_ones:
        yield from told(f"server {item.pid}", lambda: [f"{item.address} serves {item.folder}, own {item.is_own}, {item.server.folder} {item.server.interpreter and item.server.interpreter.executable}, {item!r}", *seat_lines(server.server_seat(reader, item))])

    def ask(item: server.RunningServer, path: str) -> object:
        if item.pid == 52:
            raise server.Unreadable(item.path, "it does not answer")
        if path == "api/sessions" and item.pid == 51:
            return [{"path": "", "kernel": {"id": "b2"}}, {"path": "x.ipynb", "kernel": {"id": "c3", "name": "heath"}}]
        if path == "api/sessions":
            return [{"path": "weights.ipynb", "kernel": {"id": "a1", "name": "heath"}}, {"kernel": None}, 3]
        return {"kernelspecs": {"heath": {"spec": {"argv": []}}, "odd": 3, "none": {"spec": None}}} if item.pid == 50 else ["no"]

    for item in running_ones:
        yield from told(f"listed by {item.pid}", lambda: [str(server.listed_by(item, ask))])
        yield from told(f"sessions of {item.pid}", lambda: [str(server.sessions_of(item, ask))])
    for asked in (ask, None):
        lives = running.live_kernels(reader, running_ones, asked)
        yield f"live kernels, {'asked' if asked else 'not asked'}: {[(item.process.pid, item.server and item.server.pid, item.notebook, item.spec) for item in lives]}"
        kernels = [Kernel(key="k", id="heath", label="Heath", folder="/k", argv=[], command=[]), Kernel(key="l", id="other", label="", folder="/l", argv=[], command=[*kernel[:-1], "{connection_file}"])]
        kernels, unexplained = running.attach(reader, kernels, lives)
        yield f"explained by none: {[item.pid for item in unexplained]}, by {[(item.id, [row.pid for row in item.running]) for item in kernels]}"
        for item in lives:
            yield from told(f"kernel {item.process.pid}", lambda: [*seat_lines(running.live_seat(reader, item)), *seat_lines(running.live_seat(reader, item, notebook.Notebook(f"{SPRING}/weights.ipynb", "orchard")))])
        for subject in (SPRING, f"{SPRING}/weights.ipynb", f"{SPRING}/other.ipynb", HOME, "/srv"):
            found = answering.running_server(reader, running_ones, subject, lives)
            yield f"for {subject}: {found and (found[0].pid, found[1].said_as, found[1].why)}"
    for title, more in (("no server on PATH", {}), ("a command", {"/usr/bin/jupyter": f"#!{HEATH}/bin/python\n"}), ("two commands", {"/usr/bin/jupyter": f"#!{HEATH}/bin/python\n", "/usr/bin/jupyter-lab": "#!/gone/python\n", "/usr/bin/jupyter-notebook": "#!/usr/bin/python3\n"})):
        own = on(plus(Files(), more))
        for interpreter in (None, own.shell_seat.interpreter):
            would = answering.server_to_start(own.reader, interpreter)
            yield f"{title}, {'' if interpreter else 'no Python'}: {would.interpreter and would.interpreter.executable} {would.said_as}; {would.why}"


@scene
def pasted_and_notebooks() -> Iterable[str]:
    """What consoles say of themselves, and what notebooks ask for."""
    said = json.dumps({"executable": f"{HEATH}/bin/python", "version": "3.11.7", "folder": SPRING})
    for text in (f"kalyx-seat {said}", f">>> x\nkalyx-seat {said} tail\nkalyx-seat {said}", "kalyx-seat {", "kalyx-seat []", 'kalyx-seat {"executable": "", "version": "3"}', 'kalyx-seat {"executable": 3, "version": "3"}', 'kalyx-seat {"executable": "/gone/python", "version": "3.9", "folder": 3}', "kalyx-says python is aliased to `python3'\nkalyx-says pip is /usr/bin/pip\nkalyx-says ", "nothing", "kalyx-says 'pip': aliased\n" * 30):
        yield from told(repr(text[:90]), lambda: [line for seat in pasted.pasted_seats(machine({}), SPRING, text) for line in seat_lines(seat)])
    yield from told("files of the folder", lambda: [line for seat in pasted.pasted_seats(machine({"a.kalyx-seat": f"kalyx-seat {said}", ".kalyx-seat": f"kalyx-seat {said}", "b.kalyx-seat": None, "c.txt": f"kalyx-seat {said}"}), SPRING, "") for line in seat_lines(seat)])
    for name in [*SHELLS, "none"]:
        yield f"to paste in {name}: {[where for where, _ in pasted.lines_to_paste(name)]} {pasted.line_of_shell(name)!r}"
    spec = {"name": "heath", "display_name": "heath", "language": "python"}
    texts = [
        ("whole", json.dumps({"metadata": {"kernelspec": spec, "language_info": {"name": "python", "version": "3.9"}}, "cells": []}, indent=1)), ("the label first", '{"metadata": {"kernelspec": {"display_name": "heath",\n "name": "heath"}}}'), ("of another language", '{"metadata": {"language_info": {"name": "R"}}}'), ("of nothing", '{"metadata": {}}'), ("odd names", '{"metadata": {"kernelspec": {"name": 3, "display_name": ""}}}'), ("an odd spec", '{"metadata": {"kernelspec": []}}'), ("no JSON", "{"), ("a list", "[]"), ("no permission", None), ("named twice", '{"metadata": {"kernelspec": {"name": "a"}, "x": {"kernelspec": 1}}, "metadata": {"kernelspec":\n {"name": "b"}}}'),
    ]  # fmt: skip
    served = Server(None, {"PATH": "/usr/bin"}, "a server", why="")
    for title, text in texts:
        reader = machine({"x.ipynb": text})
        read = notebook.read_notebook(reader, f"{SPRING}/x.ipynb")
        yield from told(f"notebook, {title}", lambda: [f"{read.kernel} {read.label} {read.language} {read.language_version} line {read.line} {read.problem}", *seat_lines(notebook.notebook_seat(reader, read, None, served)), *seat_lines(notebook.notebook_seat(reader, read, Kernel(key="k", id="heath", label="", folder="/k", argv=[], command=[], reason="it has none", undecided=True), served))])
    tree = dict.fromkeys(("a.ipynb", ".b.ipynb", "c/d.ipynb", "c/.e/f.ipynb", "env/g.ipynb", "1/2/3/4/h.ipynb", "1/2/3/4/5/i.ipynb", "folder.ipynb/j.txt"), "{}")
    reader = machine({**tree, "env/pyvenv.cfg": ""})
    yield f"in the folder {notebook.notebooks_in(reader, SPRING)}, below {notebook.notebooks_below(reader, [SPRING, f'{SPRING}/c'])}"


@scene
def words_for_seats() -> Iterable[str]:
    """What a word means as a target, or what is near it."""
    lab = ("/usr/bin/python3.11", "/usr/bin/jupyter-lab")
    table = [live(1, None, "/sbin/init", executable="/sbin/init"), live(50, 1, *lab, started=90.0), live(60, 50, f"{HEATH}/bin/python", "-m", "ipykernel_launcher", "-f", "/run/kernel-a1.json"), live(70, 1, f"{HOME}/orchard/bin/python", "tool.py"), live(71, 70, "/usr/bin/python3.11", "-m", "kalyx")]
    spec = json.dumps({"argv": [f"{HOME}/orchard/bin/python", "-m", "ipykernel_launcher", "-f", "{connection_file}"], "display_name": "Orchard", "language": "python"})
    files: dict[str, object] = {
        "~/.local/share/jupyter/runtime/jpserver-50.json": json.dumps({"pid": 50, "port": 8888, "root_dir": SPRING}), "~/.local/share/jupyter/kernels/orchard/kernel.json": spec, "~/.local/share/jupyter/kernels/dead/kernel.json": spec.replace("orchard", "orchrad"), "weights.ipynb": json.dumps({"metadata": {"kernelspec": {"name": "orchard"}}, "cells": []}), ".vscode/settings.json": json.dumps({"python.defaultInterpreterPath": HEATH}), "/usr/bin/pip": f"#!{HEATH}/bin/python\n", "/usr/bin/pipe": BINARY,
        "/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": "", "own/pyvenv.cfg": "home = /usr/bin\n", "own/bin/python": Link("/usr/bin/python3.11"), "plain/x.txt": "", "~/moor/heath/pyvenv.cfg": "home = /usr/bin\n", "~/moor/heath/bin/python": Link("/usr/bin/python3.11"),
    }  # fmt: skip
    words = ["shell", "caller", "editor", "editor:.vscode/settings.json", "editor:gone.json", "editor:", "kernel:orchard", "kernel:ORCHARD", "kernel:orchad", "kernel:", "notebook:weights.ipynb", "weights.ipynb", "notebook:gone.ipynb", "program:pip", "program:pipe", "program:pib", "server:8888", "server:50", "server:51", "server:x", "pid:60", "pid:99", "pid:x", "version:3.11", "version:3.9", "version:3", "version:3.12", "version:x", "python3.9", "3.9", "3.9.18", "4", "heath", "orchard", "haeth", "gone", "own", "plain", ".", "..", "~/heath", "./own", "/usr", "/gone", "own/bin/python", "unknown:word", "", "weigths.ipynb", f"{HOME}/orchad/bin/python", "../heath", f"{HOME}/orchard/", "~/orchard/bin/python", "program:python3", "kernel:dead"]
    for pid in (71, 1):
        machine_asked = Machine(machine(files, processes={item.pid: item for item in table}, pid=pid, folder=SPRING))
        machine_asked.reader.modified[f"{HOME}/.local/share/jupyter/runtime/jpserver-50.json"] = 100 * 10**9  # type: ignore[attr-defined]
        yield from told(f"by default, of process {pid}", lambda: [seat_line(default_seat(machine_asked))])
        for word in words if pid == 71 else ("caller",):
            yield from told(repr(word), lambda: [seat_line(resolve(machine_asked, word))])


def seat_line(seat: Seat) -> str:
    return f"{seat.seat} {seat.name}: {seat.interpreter and seat.interpreter.executable} {seat.via} <{seat.source}> {seat.reason or ''}"


@pytest.mark.parametrize("name", SCENES.names)
def test_seats_read(name):
    assert not (difference := SCENES.difference(name)), difference[:6000]
