"""What Kalyx reads on Windows against what the Windows interpreter, the reference library and ``cmd`` say themselves.

Run by a Python for Windows (tests/windows/test_windows.py starts it), as job.py.
"""

import json
import os
import random
import shutil
import subprocess
import sys
import winreg

from tests.windows.job import BASE, SEED, kalyx


def test_kernels_are_those_that_the_reference_lists(tmp_path):
    """Generated kernel files in the folders of Windows, some ids twice, against the reference library's list."""
    from tests.real.test_specs import SAYS, dead_at_start, spec

    chance = random.Random(SEED)
    roots = {"APPDATA": tmp_path / "roaming", "PROGRAMDATA": tmp_path / "all", "JUPYTER_PATH": tmp_path / "more"}
    raws = {}
    for number in range(120):
        name = chance.choice(["k", "K"]) + str(number)
        for place in chance.sample(sorted(roots), chance.choice([1, 1, 2])):
            folder = roots[place] / ("kernels" if place == "JUPYTER_PATH" else "jupyter\\kernels") / name
            folder.mkdir(parents=True)
            (folder / "kernel.json").write_bytes(spec(chance))
            raws.setdefault(name.lower(), []).append((folder / "kernel.json").read_bytes())
    variables = {**os.environ, **{name: str(path) for name, path in roots.items()}, "JUPYTER_USE_PROGRAMDATA": "1"}
    done = subprocess.run([sys.executable, "-c", SAYS], env=variables, stdin=subprocess.DEVNULL, capture_output=True, check=False)
    theirs = json.loads(done.stdout)
    answer = json.loads(kalyx("kernels", "--seen-by", sys.executable, "--json", **{key: variables[key] for key in (*roots, "JUPYTER_USE_PROGRAMDATA")}))
    ours = {kernel["id"]: kernel for kernel in answer["kernels"] if kernel["id"] in raws and not {"spec-unreadable", "hidden"} & set(kernel["conditions"])}
    for name in raws:
        if not any(map(dead_at_start, raws[name])):
            assert (name in theirs) == (name in ours), (SEED, name, raws[name], theirs.get(name), ours.get(name))
            assert name not in theirs or ours[name]["argv"] == theirs[name]["argv"], (SEED, name, raws[name])
    assert len(theirs) > 10  # of every seed some are good



def test_search_paths_by_chance(tmp_path):
    """What reading says of sys.path against the interpreter's own: path files, variables, flags, the registry."""
    from kalyx.core.environments.invocation import Invocation
    from kalyx.core.environments.searchpath import search_path
    from kalyx.core.interpreters.reading import read_interpreter
    from kalyx.core.system.live_reader import LiveReader

    chance = random.Random(SEED)
    wrong = []
    for number in range(int(os.environ.get("KALYX_ROUNDS", "8"))):
        prefix = tmp_path / f"env {number}"
        subprocess.run([sys.executable, "-m", "venv", "--without-pip", *(["--system-site-packages"] if chance.random() < 0.3 else []), str(prefix)], check=True)
        site = prefix / "Lib" / "site-packages"
        for name in ("more", "UPPER", "deep/er"):
            (tmp_path / name).mkdir(parents=True, exist_ok=True)
        lines = [str(tmp_path / "more"), str(tmp_path / "upper"), "..\\..\\Scripts", "gone", "# no", "", str(tmp_path / "deep/er"), "C:relative", "\\rooted",
                 str(tmp_path / "MORE").lower(), "import sys; sys.path.append('C:\\\\added')"]  # fmt: skip
        for name in chance.sample(["a.pth", "B.PTH", "c.Pth", "z.pth"], chance.randint(0, 3)):
            (site / name).write_bytes("\r\n".join(chance.sample(lines, chance.randint(1, 5))).encode(chance.choice(["utf-8", "utf-8-sig"])))
        variables = {key: value for key, value in os.environ.items() if not key.startswith("PYTHON")}
        for name, values in {"PYTHONPATH": [str(tmp_path / "more") + ";" + str(tmp_path / "GONE"), "relative;;.", str(tmp_path / "more").upper() + ";"],
                             "PYTHONNOUSERSITE": ["1", ""], "PYTHONSAFEPATH": ["1"], "PYTHONPLATLIBDIR": ["lib64"]}.items():  # fmt: skip
            if chance.random() < 0.3:
                variables[name] = chance.choice(values)
        if chance.random() < 0.2:
            variables["PYTHONHOME"] = chance.choice([str(BASE), str(BASE).upper(), str(BASE) + "\\"])
        entry = rf"Software\Python\PythonCore\{sys.version_info[0]}.{sys.version_info[1]}\PythonPath\Kalyx"
        registered = chance.random() < 0.3
        if registered:
            with winreg.CreateKey(winreg.HKEY_CURRENT_USER, entry) as key:
                winreg.SetValueEx(key, None, 0, winreg.REG_SZ, chance.choice([str(tmp_path / "more"), r"C:\app;C:\gone"]))
        flags = chance.choice([[], [], ["-I"], ["-E"], ["-s"], ["-S"], ["-P"]])
        code = "import sys, json; print(json.dumps([sys.prefix, sys.path]))"
        script = tmp_path / "ask.py"
        script.write_text(code)
        python = str(prefix / "Scripts" / "python.exe")
        done = subprocess.run([python, *flags, str(script)], env=variables, cwd=tmp_path, stdin=subprocess.DEVNULL, capture_output=True, check=False)
        reader = LiveReader(variables, str(tmp_path))
        interpreter = read_interpreter(reader, python)
        invocation = Invocation.of_command([*flags, str(script)], reader, interpreter, variables)
        found = search_path(reader, interpreter, invocation)
        if registered:
            winreg.DeleteKey(winreg.HKEY_CURRENT_USER, entry)
        if done.returncode:
            continue
        own = json.loads(done.stdout)
        read = [entry.entry for entry in found.entries]
        if not found.unknown and not found.code and [place.lower() for place in read] != [place.lower() for place in own[1]]:
            wrong.append((number, flags, {k: v for k, v in variables.items() if k.startswith("PYTHON")}, own[1], read))
    assert not wrong, "\n".join(map(str, wrong[:4]))



def test_the_path_file_of_a_program_by_chance(tmp_path):
    """``python311._pth`` and ``python._pth`` beside a copied interpreter: sys.path as reading has it, and as it is."""
    from kalyx.core.environments.invocation import Invocation
    from kalyx.core.environments.searchpath import search_path
    from kalyx.core.interpreters.reading import read_interpreter
    from kalyx.core.system.live_reader import LiveReader

    chance = random.Random(SEED)
    wrong, tried = [], 0
    for number in range(int(os.environ.get("KALYX_ROUNDS", "8"))):
        folder = tmp_path / f"tool {number}"
        (folder / "Lib" / "site-packages").mkdir(parents=True)
        (folder / "more").mkdir()
        for path in [*BASE.glob("*.dll"), BASE / "python.exe"]:
            shutil.copy(path, folder)
        own = [str(BASE / "Lib"), str(BASE / "DLLs")]
        lines = ["more", "MORE\\", "..", ".", "gone", "# a note", "", "more # with a note", "  more", str(tmp_path).upper(), "python311.zip", "./more", "Lib\\site-packages"]
        chosen = chance.sample(lines, chance.randint(0, 5)) + own + chance.choice([[], ["import site"], ["#import site"], ["import site  "], ["import os"]])
        tag = f"python{sys.version_info[0]}{sys.version_info[1]}"
        text = chance.choice(["\r\n", "\n"]).join(chance.sample(chosen, len(chosen)))
        for name in chance.choice([[tag], [tag.upper()], ["python"], [tag, "python"]]):
            (folder / f"{name}._pth").write_bytes((text if name != "python" or chance.random() < 0.5 else "\n".join(own)).encode())
        (folder / "Lib" / "site-packages" / "a.pth").write_text(str(tmp_path) + "\n")
        variables = {key: value for key, value in os.environ.items() if not key.startswith("PYTHON")}
        if chance.random() < 0.5:
            variables |= {"PYTHONPATH": str(tmp_path), "PYTHONHOME": r"C:\nowhere"}
        code = "import sys, json; print(json.dumps([sys.prefix, sys.path]))"
        python = str(folder / "python.exe")
        done = subprocess.run([python, "-c", code], env=variables, cwd=tmp_path, stdin=subprocess.DEVNULL, capture_output=True, check=False)
        if done.returncode:
            continue
        tried += 1
        theirs = json.loads(done.stdout)
        reader = LiveReader(variables, str(tmp_path))
        interpreter = read_interpreter(reader, python)
        found = search_path(reader, interpreter, Invocation.of_command(["-c", code], reader, interpreter, variables))
        read = [entry.entry for entry in found.entries]
        if not found.unknown and (read != theirs[1] or not reader.same_path(interpreter.prefix, theirs[0])):
            wrong.append((number, text, sorted(path.name for path in folder.iterdir()), theirs, interpreter.prefix, read))
    assert not wrong, "\n".join(map(str, wrong[:4]))
    assert tried >= 4



def test_what_is_typed_into_cmd_reaches_the_program(tmp_path):
    """Words of a line that Kalyx prints for cmd arrive as they are: the real interpreter of commands, a real program."""
    from kalyx.core.text.quoting import Unquotable, line_for

    chance = random.Random(SEED)
    show = tmp_path / "show words.py"
    show.write_text("import sys, json; print(json.dumps(sys.argv[1:]))")
    tried = 0
    while tried < 12:
        words = ["".join(chance.choices(" ab\\^&|<>()'`~$,;=+-/@#[]{}:.*?0\u00e9", k=chance.randint(1, 8))) for _ in range(3)]
        try:
            line = line_for([sys.executable, str(show), *words], "cmd")
        except Unquotable:
            continue
        tried += 1
        done = subprocess.run(f'cmd /d /s /c "{line}"', stdin=subprocess.DEVNULL, capture_output=True, check=False)
        assert json.loads(done.stdout) == words, (line, done.stdout)


def test_links_between_folders():
    """Real paths through links that this system cannot make and another made (test_windows.py), by many spellings."""
    from kalyx.core.system.live_reader import LiveReader

    root = os.environ["KALYX_LINKS"]
    chance, reader = random.Random(SEED), LiveReader(dict(os.environ), root)
    names = ["heath", "moor", "barn", "ring", "gone", "hives", "note.txt", "up"]
    wrong, followed = [], 0
    for number in range(4000):
        if number >= 200 and followed > 10:
            break
        words = [chance.choice([name, name.upper(), "..", "."]) for name in chance.choices(names, k=chance.randint(1, 5))]
        path = root + "\\" + chance.choice(["\\", "/"]).join(words)
        if os.path.exists(path):
            own = os.path.realpath(path)
            followed += os.path.normpath(path).lower() != own.lower()
            if reader.real(path) != own:
                wrong.append((path, own, reader.real(path)))
    assert not wrong and followed > 10, (followed, wrong[:4])
