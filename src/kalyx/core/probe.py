# -*- coding: utf-8 -*-
"""The one file of Kalyx that runs inside other interpreters.

Standard library only, Python 2.7 and 3.6 to the newest. Started by its full
path; it answers with one line, a Python literal, on a copy of standard output
made before anything else, so that whatever an import prints cannot mix with
the answer. Nothing but ``sys``, ``os`` and ``time`` is loaded before a trial:
what the trial loads must not have been loaded by the probe.

    probe.py MARK who
    probe.py MARK try:SECONDS:CHANGES FIRST CHANGE... MODULE NAME...
    probe.py MARK parse FILE

MARK frames the answer. FIRST is what stands first on the search path in the
way of running that is asked about: ``=`` and a path (possibly empty), or ``-``
for nothing. CHANGES is how many of the words are an experiment's: ``put=`` or
``front=`` an entry of the path, last or first; ``behind=`` one after the
standard library, before the first folder of packages; ``clear=`` and ``last=``
replace the whole path, entry by entry; ``before=`` or ``swap=`` a
folder, ``=`` and the entry it stands before or for; ``extend=`` a package,
``=`` and a folder that its path gains; ``drop=`` an entry of the path;
``source=`` a source file that is compiled again, whatever is compiled already;
``limit=`` a resource limit that is raised as far as the system allows;
``prefix=`` the prefix that ``site`` would have set; ``start=`` a path file or a
hook that is run as at start-up. SECONDS: after so long the stack is
written to standard error; a crash writes it there too, where this Python can.
"""

import sys

if __name__ == "__main__" and not (getattr(sys.flags, "safe_path", False) or getattr(sys.flags, "isolated", 0)):
    del sys.path[0]  # the probe's own folder belongs to no answer

import os
import time

try:
    text = unicode
except NameError:
    text = str


def plain(value):
    """Text whatever it was: bytes are decoded as file names are, the rest is written out."""
    if isinstance(value, text):
        return value
    if isinstance(value, bytes):
        try:
            return value.decode(sys.getfilesystemencoding() or "utf-8")
        except UnicodeError:
            return value.decode("latin-1")
    if value is None:
        return None
    try:
        return text(value)
    except Exception:
        return text(type(value).__name__)


def who():
    """What this interpreter says of itself."""
    flags = getattr(sys, "abiflags", "")
    return {
        "executable": plain(sys.executable),
        "version": ".".join(str(part) for part in sys.version_info[:3]) + _stage(),
        "implementation": _implementation(),
        "prefix": plain(sys.prefix),
        "base_prefix": plain(getattr(sys, "real_prefix", None) or getattr(sys, "base_prefix", sys.prefix)),
        "path": [plain(entry) for entry in sys.path],
        "abi_flags": plain(flags),
        "platform": plain(sys.platform),
        "folder": plain(os.getcwd()),
        "bits": 64 if sys.maxsize > 2**32 else 32,
    }


def _stage():
    stage, serial = sys.version_info[3:5]
    short = {"alpha": "a", "beta": "b", "candidate": "rc"}.get(stage)
    return short + str(serial) if short else ""


def _implementation():
    named = getattr(sys, "implementation", None)
    if named is not None:
        return plain(named.name)
    return "pypy" if hasattr(sys, "pypy_version_info") else "cpython"


def frames_of(trace):
    """Every frame of a traceback, outermost first: file, line, function."""
    frames = []
    while trace is not None:
        code = trace.tb_frame.f_code
        frames.append((plain(code.co_filename) or "", trace.tb_lineno or 0, plain(code.co_name) or ""))
        trace = trace.tb_next
    return frames


def chain_of(error, trace):
    """The exception and those it came from, the last raised first, bounded."""
    links, seen = [], set()
    while error is not None and id(error) not in seen and len(links) < 20:
        seen.add(id(error))
        if trace is None:
            trace = getattr(error, "__traceback__", None)
        links.append(
            {
                "type": plain(type(error).__name__),
                "text": _message(error),
                "name": plain(getattr(error, "name", None)),
                "path": plain(getattr(error, "path", None)),
                "import_error": isinstance(error, ImportError),
                "frames": frames_of(trace),
                "file": plain(getattr(error, "filename", None)) if isinstance(error, (SyntaxError, OSError)) else None,
                "line": getattr(error, "lineno", None) if isinstance(error, SyntaxError) else None,
                "members": _members(error),
                "bases": [plain(base.__name__) for base in type(error).__mro__[:6]],
            }
        )
        cause = getattr(error, "__cause__", None)
        if cause is None and not getattr(error, "__suppress_context__", False):
            cause = getattr(error, "__context__", None)
        error, trace = cause, None
    return links


def _members(error):
    """For a name that a module lacks: the names that it has."""
    words = text(error) if isinstance(error, ImportError) else ""
    if not words.startswith("cannot import name"):
        return []
    # Before 3.7 the error does not name the module: the requested module is taken, or none.
    module = sys.modules.get(getattr(error, "name", None) or ASKED.get("module", ""))
    try:
        return sorted(plain(name) for name in dir(module))[:3000] if module is not None else []
    except Exception:
        return []


def _message(error):
    try:
        return text(error)[:4000]
    except Exception:
        try:
            return plain(str(error))[:4000]
        except Exception:
            return "(the error has no readable text)"


ASKED = {}


def watch(seconds):
    """Where Python stands is told when it dies, and when it has not ended after ``seconds``."""
    try:
        import faulthandler  # compiled into every interpreter that has it: nothing can stand before it

        faulthandler.enable(2)
        faulthandler.dump_traceback_later(seconds, file=2)
    except Exception:
        pass  # Python 2 has none


def _refuse_undeclared(source):
    """Python 2 compiles such a text, and refuses such a file (PEP 263). Raises SyntaxError."""
    head = b"\n".join(source.split(b"\n")[:2])
    declared = source.startswith(b"\xef\xbb\xbf") or b"coding:" in head or b"coding=" in head
    if not declared and any(ord(letter) > 127 for letter in source):
        raise SyntaxError("a character outside ASCII, and no encoding declared")


def parse(path):
    """Whether this Python's compiler takes the file."""
    try:
        with open(path, "rb") as file:
            source = file.read()
        if sys.version_info[0] < 3:
            _refuse_undeclared(source)
        compile(source, path, "exec", 0, True)
    except Exception:
        return {"parses": False, "text": _message(sys.exc_info()[1])}
    return {"parses": True, "text": ""}


def change(words):
    """What an experiment leaves out, puts in or moves, in this process alone; what is to be done at the very start."""
    fresh = []
    for word in words:
        action, _, value = word.partition("=")
        if action in ("put", "front", "drop"):
            sys.path[:] = [entry for entry in sys.path if (entry or os.getcwd()) != value]
        if action == "put":
            sys.path.append(value)
        elif action == "front":
            sys.path.insert(0, value)
        elif action == "clear":
            del sys.path[:]
        elif action == "last":
            sys.path.append(value)
        elif action == "behind":
            names = [os.path.split(entry)[1] for entry in sys.path]
            positions = [number for number, name in enumerate(names) if name in ("site-packages", "dist-packages")]
            sys.path.insert(positions[0] if positions else 0, value)
        elif action in ("before", "swap"):
            folder, _, other = value.partition("=")
            positions = [number for number, entry in enumerate(sys.path) if (entry or os.getcwd()) == other]
            at = positions[0] if positions else len(sys.path)
            sys.path[at : at + (1 if action == "swap" and positions else 0)] = [folder]
            if action == "before" and "site" in sys.modules:
                sys.modules["site"].addsitedir(folder)  # its path files are read too
        elif action == "extend":
            package, _, folder = value.partition("=")
            __import__(package)
            sys.modules[package].__path__.append(folder)
        elif action == "source":
            fresh.append(value)
        elif action == "limit":
            raise_limit(value)
        elif action == "prefix":
            sys.prefix = sys.exec_prefix = value
        elif action == "start":
            run_as_at_start(value)
    if fresh:
        compile_anew(fresh)


def compile_anew(files):
    """Have these source files compiled from their text, as if nothing had been compiled before (PEP 3147)."""
    external = sys.modules["_frozen_importlib_external"]
    usual = external.cache_from_source

    def cache_from_source(path, *more, **named):
        if path in files:
            raise NotImplementedError  # the loader's own way to say that a source has no compiled form
        return usual(path, *more, **named)

    external.cache_from_source = cache_from_source


def raise_limit(name):
    """The soft limit of a resource becomes the hard one (getrlimit(2)); root's goes beyond that."""
    import resource

    number = getattr(resource, name)
    try:
        resource.setrlimit(number, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
    except (ValueError, OSError):
        resource.setrlimit(number, (resource.getrlimit(number)[1],) * 2)


def limits():
    """The resource limits in force that an import can meet, each its number in the system's own unit (getrlimit(2))."""
    try:
        import resource
    except ImportError:
        return {}
    names = ("RLIMIT_AS", "RLIMIT_NOFILE", "RLIMIT_NPROC", "RLIMIT_FSIZE", "RLIMIT_STACK")
    numbers = [(name, resource.getrlimit(getattr(resource, name))[0]) for name in names if hasattr(resource, name)]
    return {name: number for name, number in numbers if number != resource.RLIM_INFINITY}


def run_as_at_start(path):
    """One path file, start-up file or hook, as ``site`` runs it: an error is printed, SystemExit ends Python."""
    folder, name = os.path.split(path)
    try:
        if name.endswith(".pth"):
            import site

            site.addpackage(folder, name, set())
        elif name.endswith(".start"):  # PEP 829
            import pkgutil

            with open(path, "rb") as file:
                lines = file.read().decode("utf-8-sig").splitlines()
            for line in lines:
                if line.strip() and not line.strip().startswith("#"):
                    pkgutil.resolve_name(line.strip())()
        else:
            __import__(name.split(".")[0])
    except BaseException:
        sys.excepthook(*sys.exc_info())
        if not isinstance(sys.exc_info()[1], Exception):
            sys.stderr.flush()
            os._exit(1)


def attempt(first, changes, module, names):
    """Import ``module`` (and ``names`` from it) the way a program here would, and tell what came of it."""
    if first.startswith("="):
        sys.path.insert(0, first[1:])
    answer = {"path": [plain(entry) for entry in sys.path], "imports": False, "chain": []}
    ASKED["module"] = module
    sys.argv[:] = ["-c"]  # a module that reads the program's words finds none, as under -c
    before = set(sys.modules)
    began = time.time()
    try:
        change(changes)
        imported = __import__(module, {}, {}, names or ["__doc__"], 0)
        for name in names:
            if name != "*" and not hasattr(imported, name):
                # What the import statement itself would do, for its own words.
                exec("from %s import %s" % (module, name), {})
        answer["imports"] = True
        answer["file"] = plain(getattr(imported, "__file__", None))
        portions = getattr(imported, "__path__", None)
        answer["folders"] = [plain(entry) for entry in portions] if portions is not None else None
        answer["version"] = plain(getattr(imported, "__version__", None))
        answer["members"] = len([name for name in dir(imported) if not name.startswith("__")])
    except BaseException:
        kind, error, trace = sys.exc_info()
        answer["chain"] = chain_of(error, trace)
        answer["limits"] = limits()
    answer["seconds"] = time.time() - began
    answer["loaded"] = sorted(plain(name) for name in set(sys.modules) - before if sys.modules.get(name) is not None)[
        :2000
    ]
    # Where a standard module came from tells a shadowing file by name.
    answer["files"] = _files(set(sys.modules) - before)
    return answer


def _files(names):
    files = {}
    for name in sorted(names)[:2000]:
        module = sys.modules.get(name)
        try:
            file = getattr(module, "__file__", None)
        except Exception:
            file = None
        if isinstance(file, (str, text)):
            files[plain(name)] = plain(file)
    return files


def main(arguments):
    mark, question = arguments[0], arguments[1]
    answers_to = os.dup(1)
    os.dup2(2, 1)
    if question == "who":
        answer = who()
    elif question == "parse":
        answer = parse(arguments[2])
    else:
        seconds, _, count = question.partition(":")[2].partition(":")
        watch(float(seconds))
        end = 3 + int(count or 0)
        answer = attempt(arguments[2], arguments[3:end], arguments[end], arguments[end + 1 :])
    line = ("\n%s%r%s\n" % (mark, answer, mark)).encode("utf-8", "backslashreplace")
    while line:
        line = line[os.write(answers_to, line) :]
    try:
        sys.stdout.flush()
        sys.stderr.flush()
    finally:
        # Threads and exit hooks of what was tried must not hold the answer back.
        os._exit(0)


if __name__ == "__main__":
    main(sys.argv[1:])
