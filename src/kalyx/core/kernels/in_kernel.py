# -*- coding: utf-8 -*-
"""Run by a notebook kernel as it starts; written by ``kalyx register --explain`` into the kernel's folder.

After a cell that an ImportError ended, Kalyx is asked why, in a process of its own, and the answer is shown below the
traceback. Nothing else of the kernel is changed: no path, no module, no exception. Without Kalyx nothing is shown.
Python 2.7 and newer; of the kernel's package only ``shell.events`` and ``IPython.display`` are used.
"""


def _kalyx_explains(shell, kalyx, kernel, seconds):
    """Have Kalyx asked after each cell. ``kalyx``: the command; ``kernel``: this kernel's id; ``seconds``: its time."""
    import sys

    if str is bytes:  # Python 2 starts programs by bytes
        kalyx = [word.encode(sys.getfilesystemencoding() or "utf-8") for word in kalyx]
    seen = {}  # what was explained, by line and error: in which cell
    now = {"cell": 0, "depth": 0, "error": None}  # the cell that runs, how deep a cell runs others, the error of before

    def begins(*ignored):
        cell = getattr(shell, "execution_count", 0)
        if cell != now["cell"] or not now["depth"]:
            now.update(cell=cell, depth=0, error=getattr(sys, "last_value", None))
        now["depth"] += 1

    def ended(result=None):
        try:
            now["depth"] -= 1
            if now["depth"] > 0:  # %%capture and the like run a cell within a cell: what is shown there may be lost
                return
            error = getattr(result, "error_in_exec", None)
            if error is None:  # %run: shown as an error, and no result of the cell
                error = getattr(sys, "last_value", None)
                error = None if error is now["error"] else error
            now["error"] = None
            if isinstance(error, ImportError):
                explain(error, getattr(result, "execution_count", None) or now["cell"])
        except (Exception, KeyboardInterrupt):
            pass  # nothing that happens here may show in a notebook

    def explain(error, cell):
        import json
        import os

        if not (os.path.exists(kalyx[0]) and os.path.exists(kalyx[2])):  # Kalyx was removed
            return
        trace = getattr(error, "__traceback__", None) or getattr(sys, "last_traceback", None)
        about = described(error, trace)
        if about["line"] in seen:
            show(
                u"kalyx: this line failed in the same way in cell %s, where the answer stands. To ask again: !%s"
                % (seen[about["line"]], question(about))
            )
            return
        answer = asked(json.dumps(about["failure"]).encode("ascii"))
        if answer is None:
            show(u"kalyx: no answer within %d seconds. To ask in a terminal: %s" % (seconds, question(about)))
            return
        seen[about["line"]] = cell
        show(answer["text"], answer["html"])

    def question(about):
        name = about["name"]
        plain = name and all(letter.isalnum() or letter in u"_." for letter in name)
        return u"kalyx why %s --in kernel:%s" % (name if plain else u"MODULE", kernel)

    def as_text(value):
        """A text, also of the bytes that Python 2 has for one; None for what is none."""
        if str is bytes and isinstance(value, bytes):
            return value.decode(sys.getfilesystemencoding() or "utf-8", "replace")
        return value if isinstance(value, type(u"")) else None

    def described(error, trace):
        """The failure as Kalyx takes it, and what makes two failures the same: the line of the cell, and the error."""
        import linecache
        import os
        import traceback

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
            "kernel": kernel,
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
        import json
        import subprocess
        import threading

        more = {"creationflags": 0x08000000} if sys.platform == "win32" else {}  # without a window
        try:
            pipe = subprocess.PIPE
            process = subprocess.Popen(kalyx, stdin=pipe, stdout=pipe, stderr=pipe, close_fds=True, **more)
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
            thread.join(seconds)
        finally:
            if process.poll() is None:
                process.terminate()
        try:
            answer = json.loads(answers[0].decode("utf-8")) if process.returncode == 0 else {}
            return {name: answer[name] for name in ("text", "html")}
        except (IndexError, KeyError, TypeError, ValueError):
            return None

    def show(text, html=None):
        from IPython.display import display

        data = {"text/plain": text}
        if html is not None:
            data["text/html"] = html
        display(data, raw=True)

    shell.events.register("pre_run_cell", begins)
    shell.events.register("post_run_cell", ended)


try:
    _kalyx_explains(get_ipython(), *__KALYX__)  # noqa: F821  (the kernel's own function; the words are written here)
except Exception:
    pass
del _kalyx_explains
