"""Environments bent in every way that still starts: what reading must follow the interpreter in.

Each maker gets the environment's prefix and its base's interpreter record, and
returns the path to start it by.
"""

from __future__ import annotations

import os
import shutil
from pathlib import Path


def _settings(change):
    def make(prefix: Path, base) -> str:
        path = prefix / "pyvenv.cfg"
        path.write_bytes(change(path.read_text(), base).encode("utf-8", "surrogateescape"))
        return str(prefix / "bin" / "python")

    return make


def _value(word: str):
    return _settings(lambda text, base: text.replace("= false", f"= {word}"))


def beside(prefix: Path, base) -> str:
    shutil.move(prefix / "pyvenv.cfg", prefix / "bin" / "pyvenv.cfg")
    return str(prefix / "bin" / "python")


def both_places(prefix: Path, base) -> str:
    text = (prefix / "pyvenv.cfg").read_text()
    (prefix / "bin" / "pyvenv.cfg").write_text(text.replace("= false", "= true"))
    return str(prefix / "bin" / "python")


def gone_settings(prefix: Path, base) -> str:
    (prefix / "pyvenv.cfg").unlink()
    return str(prefix / "bin" / "python")


def settings_as(put):
    def make(prefix: Path, base) -> str:
        (prefix / "pyvenv.cfg").unlink()
        put(prefix / "pyvenv.cfg")
        return str(prefix / "bin" / "python")

    return make


def link_outside(prefix: Path, base) -> str:
    path = prefix.parent / "elsewhere" / "python-of-env"
    path.parent.mkdir()
    os.symlink(prefix / "bin" / "python", path)
    return str(path)


def link_to_the_folder(prefix: Path, base) -> str:
    path = prefix.parent / "by-link"
    os.symlink(prefix, path)
    return str(path / "bin" / "python")


def link_to_the_bin(prefix: Path, base) -> str:
    other = prefix.parent / "other"
    other.mkdir()
    os.symlink(prefix / "bin", other / "bin")
    return str(other / "bin" / "python")


def moved(prefix: Path, base) -> str:
    to = prefix.parent / "moved away"
    shutil.move(prefix, to)
    return str(to / "bin" / "python")


def base_by_linked_folder(prefix: Path, base) -> str:
    link = prefix.parent / "base link"
    os.symlink(base.prefix, link)
    real = Path(base.real_executable)
    name = link / real.relative_to(base.prefix) if str(real).startswith(base.prefix + "/") else link / "bin" / real.name
    python = prefix / "bin" / "python"
    python.unlink()
    os.symlink(name, python)
    return str(python)


def another_name(prefix: Path, base) -> str:
    os.symlink("python", prefix / "bin" / "hivepy")
    return str(prefix / "bin" / "hivepy")


def copied_with_home(home: str):
    def make(prefix: Path, base) -> str:
        python = prefix / "bin" / "python"
        python.unlink()
        shutil.copy2(base.real_executable, python)
        path = prefix / "pyvenv.cfg"
        lines = [line for line in path.read_text().splitlines() if not line.startswith(("home", "executable"))]
        if home:
            lines.insert(0, "home = " + home.format(bin=str(Path(base.executable).parent), prefix=prefix))
        path.write_text("\n".join(lines) + "\n")
        return str(python)

    return make


def site_by_link(prefix: Path, base) -> str:
    site = next((prefix / "lib").glob("py*")) / "site-packages"
    away = prefix.parent / "site away"
    shutil.move(site, away)
    os.symlink(away, site)
    (away / "more.pth").write_text("..\n")
    return str(prefix / "bin" / "python")


def no_site_folder(prefix: Path, base) -> str:
    shutil.rmtree(next((prefix / "lib").glob("py*")))
    return str(prefix / "bin" / "python")


def by_a_dotted_path(prefix: Path, base) -> str:
    return f"{prefix}/lib/../bin/./python"


# The other implementation looks for its library in the root folder too, when nothing nearer leads to one.
OTHER_RULES = {"copied, wrong home", "copied, no home"}

MUTATIONS = {
    "as made": _settings(lambda text, base: text),
    "true": _value("true"),
    "TRUE": _value("TRUE"),
    "yes": _value("yes"),
    "1": _value("1"),
    "quoted": _value('"true"'),
    "commented": _value("true  # because"),
    "empty": _value(""),
    "key in capitals": _settings(lambda t, b: t.replace("include-system", "INCLUDE-System").replace("= false", "= true")),
    "key missing": _settings(lambda t, b: "".join(x for x in t.splitlines(True) if not x.startswith("include"))),
    "key twice, last true": _settings(lambda t, b: t + "include-system-site-packages = true\n"),
    "key twice, last false": _settings(lambda t, b: "include-system-site-packages = true\n" + t),
    "no spaces": _settings(lambda t, b: t.replace(" = ", "=").replace("=false", "=true")),
    "indented": _settings(lambda t, b: t.replace("include", "   include").replace("= false", "= true")),
    "windows line ends": _settings(lambda t, b: t.replace("= false", "= true").replace("\n", "\r\n")),
    "no home": _settings(lambda t, b: "".join(x for x in t.splitlines(True) if not x.startswith("home"))),
    "wrong home": _settings(lambda t, b: "".join("home = /no/where\n" if x.startswith("home") else x for x in t.splitlines(True))),
    "home of nothing": _settings(lambda t, b: "".join("home = /tmp\n" if x.startswith("home") else x for x in t.splitlines(True))),
    "home twice": _settings(lambda t, b: t + "home = /no/where\n"),
    "empty file": _settings(lambda t, b: ""),
    "garbage": _settings(lambda t, b: "no equals here\n=\n= x\nhome\n" + t),
    "wrong version written": _settings(lambda t, b: t.replace("version = ", "version = 2.")),
    "other letters": _settings(lambda t, b: t + "prompt = 'žluť'\n"),
    "lines ended by a sign of texts": _settings(lambda t, b: t.replace("\n", "\u2028")),
    "true behind a sign of texts": _settings(lambda t, b: t.replace("= false", "= false\x85include-system-site-packages = true")),
    "old line ends": _settings(lambda t, b: t.replace("= false", "= true").replace("\n", "\r")),
    "settings are a folder": settings_as(os.mkdir),
    "settings are a link to nothing": settings_as(lambda path: os.symlink("gone", path)),
    "beside": beside,
    "both places": both_places,
    "gone settings": gone_settings,
    "link outside": link_outside,
    "link to the folder": link_to_the_folder,
    "link to the bin": link_to_the_bin,
    "moved": moved,
    "base by a linked folder": base_by_linked_folder,
    "another name": another_name,
    "copied": copied_with_home("{bin}"),
    "copied, wrong home": copied_with_home("/no/where"),
    "copied, no home": copied_with_home(""),
    "site by a link": site_by_link,
    "no site folder": no_site_folder,
    "by a dotted path": by_a_dotted_path,
}  # fmt: skip
