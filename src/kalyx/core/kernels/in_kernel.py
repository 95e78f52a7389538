# -*- coding: utf-8 -*-
"""Run by a notebook kernel as it starts, in a namespace of its own: the file that ``kalyx register --explain`` writes
into the kernel's folder names this one.

After a cell that an ImportError ended, Kalyx is asked why, in a process of its own, and the answer is shown below the
traceback. Nothing else of the kernel is changed: no path, no name, no exception. Without Kalyx nothing is shown.
Python 2.7 and newer; of the kernel's package only ``shell.events`` and ``IPython.display`` are used.
"""

import json
import linecache
import os
import subprocess
import sys
import threading
import traceback

OWN = {}  # the kernel's shell and id, the command that asks Kalyx, the seconds that a cell waits
SEEN = {}  # what was explained, by line and error: in which cell
NOW = {"cell": 0, "depth": 0, "error": None}  # the cell that runs, how deep a cell runs others, the error of before


def start(shell, kalyx, kernel, seconds):
    """Have Kalyx asked after each cell. ``kalyx``: the command; ``kernel``: this kernel's id; ``seconds``: its time."""
    if str is bytes:  # Python 2 starts programs by bytes
        kalyx = [word.encode(sys.getfilesystemencoding() or "utf-8") for word in kalyx]
    OWN.update(shell=shell, kalyx=kalyx, kernel=kernel, seconds=seconds)
    shell.events.register("pre_run_cell", begins)
    shell.events.register("post_run_cell", ended)


def begins(*ignored):
    """A cell begins: keep the error of before."""
    cell = getattr(OWN["shell"], "execution_count", 0)
    if cell != NOW["cell"] or not NOW["depth"]:
        NOW.update(cell=cell, depth=0, error=getattr(sys, "last_value", None))
    NOW["depth"] += 1


def ended(result=None):
    """A cell has ended: explain the import that ended it, if one did."""
    try:
        NOW["depth"] -= 1
        if NOW["depth"] > 0:  # %%capture and the like run a cell within a cell: what is shown there may be lost
            return
        error = getattr(result, "error_in_exec", None)
        if error is None:  # %run: shown as an error, and no result of the cell
            error = getattr(sys, "last_value", None)
            error = None if error is NOW["error"] else error
        NOW["error"] = None
        if isinstance(error, ImportError):
            explain(error, getattr(result, "execution_count", None) or NOW["cell"])
    except (Exception, KeyboardInterrupt):
        pass  # nothing that happens here may show in a notebook


def explain(error, cell):
    """Ask Kalyx, and show the answer below the cell; of the same line and error only where the answer stands."""
    if not (os.path.exists(OWN["kalyx"][0]) and os.path.exists(OWN["kalyx"][2])):  # Kalyx was removed
        return
    trace = getattr(error, "__traceback__", None) or getattr(sys, "last_traceback", None)
    about = described(error, trace)
    if about["line"] in SEEN:
        show(
            u"kalyx: this line failed in the same way in cell %s, where the answer stands. To ask again: !%s"
            % (SEEN[about["line"]], question(about))
        )
        return
    answer = asked(json.dumps(about["failure"]).encode("ascii"))
    if answer is None:
        show(u"kalyx gave no answer. To ask in a terminal: %s" % question(about))
        return
    SEEN[about["line"]] = cell
    show(answer["text"], answer["html"])


def question(about):
    """The line that asks the same in a terminal."""
    name = about["name"]
    plain = name and all(letter.isalnum() or letter in u"_." for letter in name)
    return u"kalyx why %s --in kernel:%s" % (name if plain else u"MODULE", OWN["kernel"])


def as_text(value):
    """A text, also of the bytes that Python 2 has for one; None for what is none."""
    if str is bytes and isinstance(value, bytes):
        return value.decode(sys.getfilesystemencoding() or "utf-8", "replace")
    return value if isinstance(value, type(u"")) else None


def described(error, trace):
    """The failure as Kalyx takes it, and what makes two failures the same: the line of the cell, and the error."""
    try:
        message = u"%s" % (error,)
        text = u"".join(traceback.format_exception(type(error), error, trace))
    except Exception:  # its own words fail, or are no text
        message, text = u"", u"%s: (its words cannot be read)" % type(error).__name__
    name = as_text(getattr(error, "name", None))
    if not name:
        words = message[:1000].partition(u"No module named ")[2].split()
        name = words[0].strip(u"'\";,") if words else u""
    try:
        folder = os.getcwd()
    except OSError:  # it was removed
        folder = u""
    inner = trace
    while inner is not None and os.path.isfile(inner.tb_frame.f_code.co_filename) and inner.tb_next is not None:
        inner = inner.tb_next  # the frames of the kernel's own files stand before the cell's
    where = inner.tb_frame.f_code.co_filename if inner is not None else ""
    number = inner.tb_lineno if inner is not None else 0
    line = as_text(linecache.getline(where, number).strip()) or u"%s:%s" % (as_text(where), number)
    loaded_from = getattr(sys.modules.get(name.partition(u".")[0]), "__file__", None)
    failure = {
        "pid": os.getpid(),
        "kernel": OWN["kernel"],
        "traceback": text[-500000:],
        "line": line,
        "error": type(error).__name__,
        "message": message[:4000],
        "path": [as_text(entry) for entry in sys.path if as_text(entry) is not None],
        "folder": as_text(folder),
        "loaded_from": as_text(loaded_from),
    }
    return {"line": (line, type(error).__name__, message), "name": name, "failure": failure}


def asked(failure):
    """What Kalyx answers, as text and as HTML; None where there is no answer in time."""
    more = {"creationflags": 0x08000000} if sys.platform == "win32" else {}  # without a window
    try:
        pipe = subprocess.PIPE
        process = subprocess.Popen(OWN["kalyx"], stdin=pipe, stdout=pipe, stderr=pipe, close_fds=True, **more)
    except (OSError, ValueError):
        return None
    answers = []

    def talk():
        try:
            out, _ = process.communicate(failure)
            answers.append(out)
        except (OSError, ValueError):
            pass

    thread = threading.Thread(target=talk)
    thread.daemon = True
    try:
        thread.start()
        thread.join(OWN["seconds"])
    finally:
        if process.poll() is None:
            process.terminate()
    try:
        answer = json.loads(answers[0].decode("utf-8")) if process.returncode == 0 else {}
        return {name: answer[name] for name in ("text", "html")}
    except (IndexError, KeyError, TypeError, ValueError):
        return None


def show(text, html=None):
    """Show an answer below the cell: HTML where the front end can, else text."""
    from IPython.display import display

    data = {"text/plain": text}
    if html is not None:
        data["text/html"] = html
    display(data, raw=True)


GIVEN = globals().get("GIVEN")  # by the file in the kernel's folder
if GIVEN is not None:
    start(*GIVEN)
