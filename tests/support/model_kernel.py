"""A model of kernels, for machines in memory: they speak the messaging protocol, over no socket.

A kernel package of the model answers once its modules can be imported in the interpreter of the command line. What a
kernel runs for its user is run by the model of Python.
"""

from __future__ import annotations

import ast
import json
from collections.abc import Callable, Iterator
from types import ModuleType, SimpleNamespace
from typing import Any

from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.kernels.wire import Session
from kalyx.core.system.loopback import Connection, Loopback
from kalyx.core.system.runner import Running
from tests.support.model_python import ModelPython

Frames = list[bytes]
# What a kernel does of what the protocol asks of it; each is a fault that is met.
ODD = ("silent", "forged", "forged later", "stuck", "no heartbeat", "no message", "of another language", "of no language", "odd answer", "ends")


class Program:
    """What a kernel runs: a program of the model of Python that has begun."""

    def __init__(self, python: ModelPython, executable: str, folder: str, variables: dict[str, str]) -> None:
        self.python, self.executable, self.folder, self.variables = python, executable, folder, variables
        _, self.runs = python.program(executable, [], variables, folder, f"={folder}", [])
        self.about = read_interpreter(python.reader, executable)
        self.runs.given.executable, self.runs.given.prefix = executable, self.about.prefix
        self.runs.modules |= {"os": self.module(getcwd=lambda: folder), "importlib.util": self.module(find_spec=self.spec), "importlib": self.module(__path__=[])}

    def module(self, **members: object) -> ModuleType:
        made = ModuleType("of the model")
        vars(made).update(members)
        return made

    def spec(self, name: str) -> SimpleNamespace | None:
        reader = self.python.reader
        paths = [reader.join(entry or self.folder, *words) for entry in self.runs.path for words in ((name, "__init__.py"), (f"{name}.py",))]
        return next((SimpleNamespace(origin=path) for path in paths if reader.is_file(path)), None)

    def said_by(self, code: str) -> str:
        """What a cell prints: the answer to Kalyx's question, or what a script's lines print."""
        words, asked, _ = code.rpartition("\n_kalyx_question(")[2].partition(")\ndel _kalyx_question")
        if not asked:
            self.runs.printed.clear()
            try:
                exec(code, {"__builtins__": self.runs.names})
            except Exception as error:
                self.runs.printed.append(f"{type(error).__name__}: {error}")
            return "".join(f"{line}\n" for line in self.runs.printed)
        mark, imports = ast.literal_eval(f"({words})")
        answer = {"executable": self.executable, "prefix": self.about.prefix, "base_prefix": "/usr", "version": self.about.version, "implementation": "cpython",
                  "path": self.variables.get("PATH", ""), "imports": [self.outcome(module, names) for module, names in imports]}  # fmt: skip
        return f"\n{mark}{answer!r}{mark}\n"

    def outcome(self, module: str, names: list[str]) -> dict[str, object]:
        answer = self.python.attempt(self.runs, module, names, self.runs.path)
        if answer["imports"]:
            return {"module": module, "imports": True, "file": answer["file"] or (answer["folders"] or [None])[0]}
        first = answer["chain"][0]
        return {"module": module, "imports": False, "type": first["type"], "text": first["text"]}


class ModelKernel(Running):
    """One kernel that runs: what it answers to a message, as long as it lives. ``odd``: one of ``ODD``, or nothing."""

    pid = 4711

    def __init__(self, session: Session, program: Program, printed: str = "", odd: str = "") -> None:
        self.session, self.program, self.printed, self.odd = session, program, printed, odd
        self.ended: int | None = 1 if odd == "ends" else None

    def status(self) -> int | None:
        return self.ended

    def words(self) -> bytes:
        return self.printed.encode()

    def wait(self, seconds: float) -> bool:
        return self.ended is not None

    def end(self, patience: float = 1.0) -> None:
        self.ended = self.ended or 0

    def asked(self, frames: Frames) -> Iterator[tuple[str, Frames]]:
        """The channel and the frames of each message that a request is answered with."""
        message = self.session.read(frames)
        assert not message.signed_wrongly
        request = frames[frames.index(b"<IDS|MSG>") + 2]

        forged = self.odd == "forged" or (self.odd == "forged later" and message.type == "execute_request")

        def answer(channel: str, kind: str, **content: object) -> tuple[str, Frames]:
            parts = [json.dumps({"msg_id": f"{kind} to {message.id}", "msg_type": kind}).encode(), request, b"{}", json.dumps(content).encode()]
            sign = b"0" * 64 if forged else self.session.sign(parts)
            return channel, [b"identity", b"<IDS|MSG>", sign, *(parts if self.odd != "no message" else parts[:2])]

        if self.ended is not None or self.odd == "silent":
            return
        yield answer("iopub", "status", execution_state="busy")
        yield "iopub", Session(self.session.key).request("stream", {"text": "of another client"})[1]
        if message.type == "kernel_info_request":
            yield answer("shell", "kernel_info_reply", language_info={"name": {"of another language": "R", "of no language": ""}.get(self.odd, "python")}, protocol_version="5.3")
        elif message.type == "shutdown_request":
            assert not message.content["restart"], "it would be started again"
            self.ended = 0
        elif self.odd in ("of another language", "of no language"):
            yield answer("shell", "execute_reply", status="error")
            yield answer("iopub", "error", ename="Error", evalue="unexpected symbol")
        elif message.type == "execute_request" and self.odd == "stuck":
            yield answer("iopub", "stream", text="so far")
        elif message.type == "execute_request":
            assert not {"store_history", "allow_stdin"} & {name for name, value in message.content.items() if value is True}, "the user's kernel is only asked"
            expressions = message.content["user_expressions"]
            if not expressions:
                yield answer("iopub", "stream", name="stdout", text=self.program.said_by(message.content["code"]))
            values = {name: {"data": {"text/plain": "no" if self.odd == "odd answer" else repr(eval(text, {"__builtins__": self.program.runs.names}))}} for name, text in expressions.items()}
            yield answer("shell", "execute_reply", status="ok", user_expressions=values)
        yield answer("iopub", "status", execution_state="idle")


class ModelConnection(Connection):
    """The channels to one kernel of the model. ``kernel`` is what was started last, or what runs already."""

    def __init__(self, kernel: Callable[[], ModelKernel], key: str, path: str = "") -> None:
        self.kernel, self.key, self.path = kernel, key, path
        self.waiting: list[tuple[str, Frames]] = []

    def open(self) -> None:
        pass

    def close(self) -> None:
        pass

    def send(self, channel: str, frames: Frames) -> None:
        self.waiting += self.kernel().asked(frames) if channel != "hb" else [("hb", frames)] if self.kernel().odd != "no heartbeat" else []

    def receive(self, channels: tuple[str, ...], seconds: float) -> tuple[str, Frames] | None:
        result = next((item for item in self.waiting if item[0] in channels), None)
        if result is not None:
            self.waiting.remove(result)
        return result


class ModelLoopback(Loopback):
    """``kernel``: the kernel that was started last. ``running``: one that ran before, by the port of its shell."""

    KEY = "6b6579"

    def __init__(self, kernel: Callable[[], ModelKernel], running: Callable[[int], ModelKernel]) -> None:
        self.kernel, self.running = kernel, running
        self.seconds = 0.0

    def connection(self, transport: str) -> Connection:
        return ModelConnection(self.kernel, self.KEY, "/run/kernel-connection.json")

    def to_running(self, description: dict[str, Any]) -> Connection:
        made = Connection.to_running(description)
        kernel = self.running(made.ports["shell"])
        return ModelConnection(lambda: kernel, made.key)

    def answers_itself(self) -> bool:
        return True

    def clock(self) -> float:
        self.seconds += 0.25
        return self.seconds
