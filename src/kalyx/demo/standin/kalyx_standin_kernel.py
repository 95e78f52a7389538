# -*- coding: utf-8 -*-
"""A small kernel that speaks the notebook messaging protocol, for the demo and the tests.

Standard library only, Python 2.7 and 3.6 to the newest, so that it runs in any
environment without anything installed. It is a stand-in, no replacement: one
cell at a time, plain text output.

Strategy: ZMTP 3.0 (the ZeroMQ message transport protocol, RFC 23) with the NULL
mechanism over plain sockets, one thread a connection; the five channels of the
messaging protocol on top; cells run one after the other in the main thread.

``--misbehave WORD`` makes it fail in one known way, for tests: ``die``,
``silent``, ``flood``, ``forge`` (a wrong signature), ``stay`` (ignores
shutdown), ``breed`` (starts a child that outlives it).
"""

from __future__ import print_function

import ast
import hashlib
import hmac
import json
import os
import socket
import struct
import subprocess
import sys
import threading
import time
import uuid

try:
    import queue
except ImportError:
    import Queue as queue

VERSION = "1.0"
DELIMITER = b"<IDS|MSG>"
GREETING = b"\xff" + b"\x00" * 8 + b"\x7f" + b"\x03\x00" + b"NULL".ljust(20, b"\x00") + b"\x00" + b"\x00" * 31


def octet(value):
    return struct.pack("B", value)


class Peer(object):
    """One connected socket: greets, shakes hands, reads and writes multipart messages."""

    def __init__(self, connection, kind):
        self.connection = connection
        self.lock = threading.Lock()
        connection.sendall(GREETING)
        self._exactly(64)
        ready = b"\x05READY" + self._property(b"Socket-Type", kind) + self._property(b"Identity", b"")
        connection.sendall(b"\x04" + octet(len(ready)) + ready)

    @staticmethod
    def _property(name, value):
        return octet(len(name)) + name + struct.pack(">I", len(value)) + value

    def _exactly(self, count):
        received = b""
        while len(received) < count:
            chunk = self.connection.recv(count - len(received))
            if not chunk:
                raise EOFError
            received += chunk
        return received

    def receive(self):
        """The parts of the next message; commands are passed over."""
        parts = []
        while True:
            flags = struct.unpack("B", self._exactly(1))[0]
            if flags & 2:
                size = struct.unpack(">Q", self._exactly(8))[0]
            else:
                size = struct.unpack("B", self._exactly(1))[0]
            body = self._exactly(size)
            if flags & 4:
                continue
            parts.append(body)
            if not flags & 1:
                return parts

    def send(self, parts):
        out = b""
        for number, part in enumerate(parts):
            more = 1 if number < len(parts) - 1 else 0
            if len(part) > 255:
                out += octet(more | 2) + struct.pack(">Q", len(part)) + part
            else:
                out += octet(more) + octet(len(part)) + part
        with self.lock:
            self.connection.sendall(out)


class Words(object):
    """Stands for standard output while a cell runs: what is written goes to the notebook."""

    def __init__(self, kernel, name):
        self.kernel = kernel
        self.name = name

    def write(self, text):
        if text:
            self.kernel.broadcast("stream", {"name": self.name, "text": text})
        return len(text)

    def flush(self):
        pass

    def isatty(self):
        return False


class Kernel(object):
    def __init__(self, settings, misbehaviour):
        self.settings = settings
        self.misbehaviour = misbehaviour
        self.key = settings.get("key", "").encode("ascii")
        self.session = uuid.uuid4().hex
        self.listeners = []
        self.work = queue.Queue()
        self.parent = {}
        self.count = 0
        self.space = {"__name__": "__main__", "__builtins__": __builtins__}

    # -- channels ---------------------------------------------------------

    def listen(self, channel, kind, serve):
        port = self.settings[channel + "_port"]
        if self.settings.get("transport") == "ipc":
            server = socket.socket(socket.AF_UNIX)
            server.bind("%s-%s" % (self.settings["ip"], port))
        else:
            server = socket.socket()
            server.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            server.bind((self.settings["ip"], port))
        server.listen(16)
        self._thread(self._accept, server, kind, serve)

    @staticmethod
    def _thread(target, *arguments):
        thread = threading.Thread(target=target, args=arguments)
        thread.daemon = True
        thread.start()

    def _accept(self, server, kind, serve):
        while True:
            connection, _ = server.accept()
            self._thread(self._connected, connection, kind, serve)

    def _connected(self, connection, kind, serve):
        try:
            serve(Peer(connection, kind))
        except (EOFError, OSError, IOError, socket.error):
            pass

    def _requests(self, peer):
        while True:
            self.work.put((peer, peer.receive()))

    def _subscriber(self, peer):
        while True:
            parts = peer.receive()
            if parts[0][:1] == b"\x01" and peer not in self.listeners:
                self.listeners.append(peer)

    @staticmethod
    def _echo(peer):
        while True:
            peer.send(peer.receive())

    @staticmethod
    def _drain(peer):
        while True:
            peer.receive()

    # -- messages ---------------------------------------------------------

    def sign(self, parts):
        if not self.key:
            return b""
        code = hmac.new(self.key, digestmod=hashlib.sha256)
        for part in parts:
            code.update(part)
        signature = code.hexdigest().encode("ascii")
        return signature[::-1] if self.misbehaviour == "forge" else signature

    def frames(self, kind, content, parent):
        header = {
            "msg_id": uuid.uuid4().hex,
            "session": self.session,
            "username": "kernel",
            "date": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()),
            "msg_type": kind,
            "version": "5.3",
        }
        parts = [json.dumps(part).encode("utf-8") for part in (header, parent, {}, content)]
        return [DELIMITER, self.sign(parts)] + parts

    def broadcast(self, kind, content):
        frames = [kind.encode("ascii")] + self.frames(kind, content, self.parent)
        for peer in list(self.listeners):
            try:
                peer.send(frames)
            except (OSError, IOError, socket.error):
                self.listeners.remove(peer)

    def handle(self, peer, parts):
        at = parts.index(DELIMITER)
        signature, body = parts[at + 1], parts[at + 2 : at + 6]
        if self.misbehaviour != "forge" and signature != self.sign(body):
            return True
        header, content = json.loads(body[0].decode("utf-8")), json.loads(body[3].decode("utf-8"))
        self.parent = header
        if self.misbehaviour == "flood":
            for _ in range(2000):
                os.write(2, b"x" * 4096)
        self.broadcast("status", {"execution_state": "busy"})
        answer = getattr(self, "on_" + header["msg_type"], None)
        going = True
        if answer is not None:
            kind, reply, going = answer(content)
            peer.send(parts[:at] + self.frames(kind, reply, header))
        self.broadcast("status", {"execution_state": "idle"})
        return going or self.misbehaviour == "stay"

    def on_kernel_info_request(self, _):
        reply = {
            "status": "ok",
            "protocol_version": "5.3",
            "implementation": "kalyx-standin",
            "implementation_version": VERSION,
            "language_info": {
                "name": "python",
                "version": sys.version.split()[0],
                "mimetype": "text/x-python",
                "file_extension": ".py",
            },
            "banner": "Kalyx's stand-in kernel",
            "help_links": [],
        }
        return "kernel_info_reply", reply, True

    def on_comm_info_request(self, _):
        return "comm_info_reply", {"status": "ok", "comms": {}}, True

    def on_is_complete_request(self, _):
        return "is_complete_reply", {"status": "unknown"}, True

    def on_history_request(self, _):
        return "history_reply", {"status": "ok", "history": []}, True

    def on_shutdown_request(self, content):
        return "shutdown_reply", {"status": "ok", "restart": content.get("restart", False)}, False

    def on_execute_request(self, content):
        code = content.get("code", "")
        if content.get("store_history", True):
            self.count += 1
        if not content.get("silent"):
            self.broadcast("execute_input", {"code": code, "execution_count": self.count})
        kept = sys.stdout, sys.stderr
        sys.stdout, sys.stderr = Words(self, "stdout"), Words(self, "stderr")
        try:
            self.run(code)
            reply = {"status": "ok", "execution_count": self.count, "user_expressions": {}, "payload": []}
        except BaseException:
            kind, error = sys.exc_info()[:2]
            failure = {"ename": kind.__name__, "evalue": str(error), "traceback": ["%s: %s" % (kind.__name__, error)]}
            self.broadcast("error", failure)
            reply = dict(failure, status="error", execution_count=self.count)
        finally:
            sys.stdout, sys.stderr = kept
        return "execute_reply", reply, True

    def run(self, code):
        """Run a cell; the value of a last expression is shown, a line that begins with ! goes to the shell."""
        lines = [self.shell_line(line) for line in code.split("\n")]
        tree = ast.parse("\n".join(lines) + "\n")
        last = tree.body.pop() if tree.body and isinstance(tree.body[-1], ast.Expr) else None
        exec(compile(tree, "<cell>", "exec"), self.space)
        if last is not None:
            value = eval(compile(ast.Expression(last.value), "<cell>", "eval"), self.space)
            if value is not None:
                data = {"text/plain": repr(value)}
                content = {"execution_count": self.count, "data": data, "metadata": {}}
                self.broadcast("execute_result", content)

    @staticmethod
    def shell_line(line):
        if not line.startswith("!"):
            return line
        return (
            "import subprocess as _s, sys as _y; _y.stdout.write(_s.Popen(%r, shell=True,"
            " stdout=_s.PIPE, stderr=_s.STDOUT).communicate()[0].decode('utf-8', 'replace'))" % line[1:]
        )

    def serve(self):
        self.listen("shell", b"ROUTER", self._requests)
        self.listen("control", b"ROUTER", self._requests)
        self.listen("stdin", b"ROUTER", self._drain)
        self.listen("iopub", b"PUB", self._subscriber)
        self.listen("hb", b"REP", self._echo)
        going = True
        while going:
            try:
                peer, parts = self.work.get(True, 1.0)
            except queue.Empty:
                continue
            except KeyboardInterrupt:
                continue
            try:
                going = self.handle(peer, parts)
            except (ValueError, KeyError, OSError, IOError, socket.error):
                continue
        time.sleep(0.05)


def main(arguments):
    misbehaviour = arguments[arguments.index("--misbehave") + 1] if "--misbehave" in arguments else ""
    if misbehaviour == "die":
        sys.stderr.write("ImportError: the hive is closed\n")
        return 3
    if misbehaviour == "silent":
        time.sleep(3600)
    if misbehaviour == "breed":
        subprocess.Popen([sys.executable, "-c", "import time; time.sleep(3600)"], preexec_fn=os.setsid)
    path = arguments[arguments.index("-f") + 1]
    with open(path) as file:
        Kernel(json.load(file), misbehaviour).serve()
    return 0


if __name__ == "__main__":
    code = main(sys.argv[1:])
    sys.stdout.flush()
    os._exit(code)
