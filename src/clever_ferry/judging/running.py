"""One run of a program: what it says is read, what it is asked is given, its limits are kept."""

from __future__ import annotations

import re
import subprocess
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Literal, NamedTuple

from clever_ferry.judging.programs import end_all, memory_of, start

__all__ = ["Ended", "Limits", "Prompt", "Ran", "run"]

Ended = Literal["itself", "enough", "time", "memory", "output"]
"""By itself; as it had said enough; or at one of its limits."""
_STEP = 0.05
_MEMORY_STEP = 0.2
_KEY = 0.2
_PATIENCE = 20.0
"""Seconds that a program gets to end by itself, once it has said enough."""
_CODES = re.compile(
    r"\x1b(?:[()*+][0-9A-Za-z]|\[[0-9;?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\)|[@-Z\\-_])"
)
"""What a terminal obeys: letters' sets, colours and places, titles, and the rest."""


class Limits(NamedTuple):
    """How far a program may go."""

    seconds: float
    memory: int
    """In bytes, of all that it has started together."""
    output: int = 8 << 20
    """In bytes, of what it says."""


class Prompt(NamedTuple):
    """Lines that a program is given, when."""

    after: str
    wait: float
    lines: tuple[str, ...]


class Ran(NamedTuple):
    """What came of a run."""

    text: str
    """All that it said, in the order in which it came."""
    code: int | None
    """Its exit code, where it ended by itself."""
    ended: Ended
    seconds: float


_State = tuple[int, int, int]


def _state(file: Path) -> _State | None:
    with suppress(OSError):
        found = file.stat()
        return found.st_size, found.st_mtime_ns, found.st_ino
    return None


class _Said:
    """What a program says, as it comes; of more than is allowed, the first."""

    def __init__(
        self, process: subprocess.Popen[bytes], logs: Mapping[Path, _State | None], most: int
    ) -> None:
        """`logs` are files that count from when they are no more as they were."""
        assert process.stdout is not None
        self._stream, self._most = process.stdout, most
        self._logs = logs
        self._raw = bytearray()
        self.full = False
        self._thread = threading.Thread(target=self._listen, daemon=True)
        self._thread.start()

    def _listen(self) -> None:
        with suppress(OSError, ValueError):
            while chunk := self._stream.read1(65536):  # type: ignore[attr-defined]
                if len(self._raw) < self._most:
                    self._raw += chunk
                else:
                    self.full = True  # and what comes is thrown away, so that nothing waits

    def finish(self) -> None:
        """Wait for the last of it."""
        self._thread.join(5)

    @property
    def text(self) -> str:
        """All of it so far, logs behind."""
        parts = [bytes(self._raw)]
        for log, before in self._logs.items():
            if (now := _state(log)) is not None and now != before:
                with suppress(OSError), log.open("rb") as file:
                    parts.append(file.read(self._most + 1))
                    self.full = self.full or len(parts[-1]) > self._most
        said = b"\n".join(parts).decode("utf-8", "replace")
        return _CODES.sub("", said).replace("\r\n", "\n").replace("\r", "\n")


def run(
    command: Sequence[str],
    environment: Mapping[str, str],
    scratch: Path,
    limits: Limits,
    *,
    prompts: Sequence[Prompt] = (),
    logs: Sequence[Path] = (),
    terminal: bool = False,
    enough: Callable[[str], bool] = lambda _: False,
) -> Ran:
    """Run a program to its end, until it has said `enough`, or to a limit; raises OSError.

    `logs` are files whose text counts as what it says, once the program has written them.
    With `terminal`, it runs at one, and what it is given is typed key by key.
    Whatever it has started is ended with it.
    """
    began = time.monotonic()
    before = {log: _state(log) for log in logs}
    process = start(command, environment, scratch, speaks=bool(prompts), terminal=terminal)
    said = _Said(process, before, limits.output)
    waiting, checked = list(prompts), 0.0
    ended: Ended | None = None
    due: float | None = None
    try:
        while ended is None:
            gone = process.poll() is not None
            text, now = said.text, time.monotonic()
            if gone:
                ended = "itself"
            elif said.full:
                ended = "output"
            elif enough(text):
                ended = "enough"
            elif now - began > limits.seconds:
                ended = "time"
            elif now - checked > _MEMORY_STEP:
                checked = now
                if memory_of(process) > limits.memory:
                    ended = "memory"
            if ended is None and waiting and waiting[0].after in text:
                due = now + waiting[0].wait if due is None else due
                if now >= due:
                    if terminal:
                        _type(process, waiting.pop(0))
                    else:
                        _give(process, waiting.pop(0), last=not waiting)
                    due = None
            if ended is None:
                time.sleep(_STEP)
    finally:
        end_all(process, scratch, patience=_PATIENCE if ended == "enough" else 0)  # free: how long
        said.finish()
    code = process.returncode if ended == "itself" else None
    if said.text and said.full and ended == "itself":
        ended = "output"
    return Ran(said.text, code, ended, time.monotonic() - began)


def _give(process: subprocess.Popen[bytes], prompt: Prompt, *, last: bool) -> None:
    assert process.stdin is not None
    with suppress(OSError, ValueError):  # it has ended, which is seen next
        process.stdin.write("".join(f"{line}\n" for line in prompt.lines).encode())
        process.stdin.flush()
        if last:
            process.stdin.close()


def _type(process: subprocess.Popen[bytes], prompt: Prompt) -> None:
    """Type lines as a player does: key by key, with time to draw in between."""
    assert process.stdin is not None
    for line in prompt.lines:
        for key in line or "\r":
            with suppress(OSError, ValueError):  # it has ended, which is seen next
                process.stdin.write(key.encode())
            time.sleep(_KEY)
