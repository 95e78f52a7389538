"""The Runner's way to talk to a kernel: five ZeroMQ channels on loopback.

Ports are chosen by the system just before the kernel starts; the connection
file is readable by this user only and is in a folder that is removed with
the channels. Only loopback addresses (or local sockets) are ever used.
"""

from __future__ import annotations

import json
import os
import shutil
import socket
import time
from typing import Any

from kalyx.core.model.records import KalyxError
from kalyx.core.system.guard import guard
from kalyx.core.system.reader import Unreadable
from kalyx.core.system.reasons import reason_of

_LONGEST_SOCKET = 100  # bytes of a local socket's address, without the number after (unix(7))
_ANSWER_LIMIT = 16 * 1024 * 1024
CHANNELS = ("shell", "iopub", "stdin", "control", "hb")


class Connection:
    """A connection file and the channels to the kernel that reads it.

    ``transport`` is ``tcp`` or ``ipc``. Use as a context manager: leaving it
    closes every channel and removes the file.
    """

    def __init__(self, transport: str = "tcp", key: str | None = None) -> None:
        self.transport = transport
        self.key = os.urandom(24).hex() if key is None else key
        self.folder = guard().new_folder()
        self.path = os.path.join(self.folder, "kernel-connection.json")
        self.address = "127.0.0.1" if transport == "tcp" else os.path.join(self.folder, "kernel")
        if transport == "ipc" and len(os.fsencode(self.address)) >= _LONGEST_SOCKET:
            raise KalyxError(f"{self.folder}: this path is too long for the sockets of a kernel, which this machine"
                             " needs here; set TMPDIR to a folder with a shorter path")  # fmt: skip
        self._sockets: dict[str, Any] = {}
        self._context: Any = None
        try:
            numbers = _free_ports(len(CHANNELS)) if transport == "tcp" else range(1, 6)
            self.ports = dict(zip(CHANNELS, numbers, strict=True))
            self._write()
        except OSError as error:
            reason = reason_of(error)
            raise KalyxError(f"{self.path}: no connection to a kernel can be made ({reason})") from None

    @classmethod
    def to_running(cls, description: dict[str, Any]) -> Connection:
        """The channels to a kernel that runs, by its connection file's words.

        Raises ValueError for another machine and for words that no connection file has, KeyError for missing ones.
        """
        made = cls.__new__(cls)
        made.transport, made.key, made.folder, made.path = description["transport"], description["key"], "", ""
        made.address, made.ports = description["ip"], {name: description[f"{name}_port"] for name in CHANNELS}
        made._sockets, made._context = {}, None
        if not all(isinstance(item, str) for item in (made.transport, made.key, made.address)):
            raise ValueError("its transport, key or address is no text")
        if not all(type(port) is int and 0 < port < 65536 for port in made.ports.values()):
            raise ValueError("a port in it is none")
        if made.transport == "ipc" and not 0 < len(made.address.encode("utf-8", "surrogateescape")) < _LONGEST_SOCKET:
            raise ValueError("its address is longer than that of a local socket can be")
        if made.transport == "tcp" and made.address not in ("127.0.0.1", "localhost", "::1"):
            raise ValueError("it listens on another address than this machine's own")
        if made.transport not in ("tcp", "ipc"):
            raise ValueError(f"no transport {made.transport!r} is known")
        return made

    def _write(self) -> None:
        content: dict[str, object] = {f"{name}_port": port for name, port in self.ports.items()}
        content |= {
            "transport": self.transport,
            "ip": self.address,
            "key": self.key,
            "signature_scheme": "hmac-sha256",
            "kernel_name": "",
        }
        handle = os.open(self.path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            json.dump(content, file)

    def _endpoint(self, channel: str) -> str:
        port = self.ports[channel]
        return f"tcp://{self.address}:{port}" if self.transport == "tcp" else f"ipc://{self.address}-{port}"

    def open(self) -> None:
        """Connect the channels. The kernel need not listen yet. Raises ValueError for what is no address."""
        import zmq

        self._context = zmq.Context()
        kinds = {"shell": zmq.DEALER, "control": zmq.DEALER, "stdin": zmq.DEALER, "iopub": zmq.SUB, "hb": zmq.REQ}
        identity = os.urandom(8).hex().encode()
        for channel, kind in kinds.items():
            made = self._context.socket(kind)
            made.linger = 0
            made.maxmsgsize = 32 * 1024 * 1024
            made.rcvhwm = 1000
            made.reconnect_ivl = 15  # milliseconds: the kernel begins to listen when it is ready
            if kind == zmq.DEALER:
                made.identity = identity
            if kind == zmq.SUB:
                made.subscribe(b"")
            self._sockets[channel] = made  # before connecting: a socket whose connection fails is closed too
            try:
                made.connect(self._endpoint(channel))
            except zmq.ZMQError as error:
                raise ValueError(f"{self._endpoint(channel)} is no address: {str(error).lower()}") from None

    def send(self, channel: str, frames: list[bytes]) -> None:
        """Send the parts of a message on a channel."""
        self._sockets[channel].send_multipart(frames)

    def receive(self, channels: tuple[str, ...], seconds: float) -> tuple[str, list[bytes]] | None:
        """The next frames on any of these channels, or None when none came in time."""
        import zmq

        poller = zmq.Poller()
        for channel in channels:
            poller.register(self._sockets[channel], zmq.POLLIN)
        for ready, _ in poller.poll(max(0, int(seconds * 1000))):
            for channel in channels:
                if self._sockets[channel] is ready:
                    return channel, ready.recv_multipart()
        return None

    def beats(self, seconds: float) -> bool:
        """Whether the heartbeat channel echoes."""
        self.send("hb", [b"kalyx"])
        beats = self.receive(("hb",), seconds)
        return beats is not None and beats[1] == [b"kalyx"]

    def close(self) -> None:
        """Close every channel; what was not sent is dropped."""
        for made in self._sockets.values():
            made.close(0)
        self._sockets.clear()
        if self._context is not None:
            self._context.term()
            self._context = None
        if self.folder:
            shutil.rmtree(self.folder, ignore_errors=True)

    def __enter__(self) -> Connection:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class Loopback:
    """How programs on this machine are talked to, and the clock that such talk is bounded by."""

    def connection(self, transport: str) -> Connection:
        """Channels to a kernel that is not started yet. Raises KalyxError where they cannot be made."""
        return Connection(transport)

    def to_running(self, description: dict[str, Any]) -> Connection:
        """Channels to a kernel that runs. Raises as ``Connection.to_running`` does."""
        return Connection.to_running(description)

    def answers_itself(self) -> bool:
        """Whether this machine reaches itself by 127.0.0.1; in a place without any network it may not."""
        with socket.socket() as listening, socket.socket() as calling:
            calling.settimeout(1.0)
            try:
                listening.bind(("127.0.0.1", 0))
                listening.listen(1)
                calling.connect(listening.getsockname())
            except OSError:
                return False
        return True

    def clock(self) -> float:
        """Seconds on a clock that is never put back."""
        return time.monotonic()


def _free_ports(count: int) -> list[int]:
    """Ports nothing listens on now; all held at once, so that they differ."""
    held = []
    try:
        for _ in range(count):
            made = socket.socket()
            made.bind(("127.0.0.1", 0))
            held.append(made)
        return [made.getsockname()[1] for made in held]
    finally:
        for made in held:
            made.close()


def monotonic() -> float:
    """Seconds on a clock that is never put back."""
    return time.monotonic()


def ask_server(address: str, token: str, path: str, seconds: float = 5.0) -> Any:
    """What a notebook server on this machine answers to GET ``path``, read as JSON. Raises Unreadable with the reason.

    No proxy, no redirect is followed, and the answer's size is bounded; the token travels in a header only.
    """
    import http.client
    import ssl
    from urllib.parse import urlsplit

    if not token.isprintable():
        raise Unreadable(address, "what its file gives as its token is not one")
    try:
        parts = urlsplit(address)
        port = parts.port if parts.hostname == "127.0.0.1" else None
    except ValueError:
        port = None
    if not port:
        raise Unreadable(address or "(no address)", "a server that is not reached over this machine's own network")
    # On loopback there is no host name that a certificate could prove.
    connection: http.client.HTTPConnection
    if parts.scheme == "https":
        context = ssl._create_unverified_context()
        connection = http.client.HTTPSConnection("127.0.0.1", port, timeout=seconds, context=context)
    else:
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=seconds)
    until = time.monotonic() + seconds
    try:
        headers = {"Authorization": f"token {token}"} if token else {}
        connection.request("GET", parts.path.rstrip("/") + "/" + path, headers=headers)
        answer = connection.getresponse()
        if answer.status != 200:
            raise Unreadable(address, f"it answers with status {answer.status}")
        whole = bytearray()
        while chunk := answer.read(65536):
            whole += chunk
            if len(whole) > _ANSWER_LIMIT or time.monotonic() > until:
                raise Unreadable(address, "its answer is too long or takes too long")
        return json.loads(whole)
    except (OSError, http.client.HTTPException, ValueError, RecursionError) as error:
        # What is wrong with a value may quote it; what the system says of a connection does not.
        words = (str(error) if isinstance(error, OSError) else "") or type(error).__name__
        raise Unreadable(address, f"it gives no answer ({words})") from None
    finally:
        connection.close()
