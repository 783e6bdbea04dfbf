"""A process that has the programs' modules loaded and forks a fresh one for each run.

A test runs hundreds of commands, and most of a short command's time is Python's start. Each
run is a process of its own, with its own arguments, environment, output and exit code, as if it
had been started anew. Windows can't fork: there, the runs come one after the other in that process,
and the tests that are about processes start Python themselves.
"""

from __future__ import annotations

import ctypes
import gc
import io
import json
import os
import runpy
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

if __name__ == "__main__":  # it is run as a file, by its path
    sys.path.insert(0, str(Path(__file__).parents[1]))
    import tests  # noqa: F401  as it is imported, what is reached begins to be learnt

_SET_PTRACER, _ANYONE = 0x59616D61, ctypes.c_ulong(-1)
"""Linux' word for who may trace a process, where only those above it may else."""

__all__ = ["Server", "can_fork", "can_serve"]


def can_fork() -> bool:
    return sys.platform == "linux"


def can_serve() -> bool:
    """Tell whether runs go through such a process here."""
    return sys.platform in ("linux", "win32")


class Server:
    """Such a process, for one run at a time; it begins with the first."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[str] | None = None

    def run(
        self, module: str, arguments: list[str], env: dict[str, str], out: Path,
        seize: Callable[[int], object] | None = None,
    ) -> int:  # fmt: skip
        """Run a module as a program; its output goes to `out`.out and `out`.err.

        `seize` is given the program's process before that begins, and lets it begin by SIGUSR1.
        """
        if self._process is None or self._process.poll() is not None:
            self._process = subprocess.Popen(
                [sys.executable, "-u", __file__], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                text=True,
            )  # fmt: skip
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        request = {"module": module, "arguments": arguments, "env": env, "out": str(out),
                   "folder": str(Path.cwd()), "held": seize is not None}  # fmt: skip
        self._process.stdin.write(json.dumps(request) + "\n")
        self._process.stdin.flush()
        if seize:
            seize(int(self._process.stdout.readline()))
        return int(self._process.stdout.readline())


def _serve() -> None:
    import importlib
    import pkgutil

    import rich.progress
    import rich.table

    import clever_ferry.cli.commands as commands
    import clever_ferry_demo.saltglass.program
    from clever_ferry.recipes import Recipes

    loaded: list[Any] = [rich.table, rich.progress, clever_ferry_demo.saltglass.program]
    for found in pkgutil.iter_modules(commands.__path__):
        loaded.append(importlib.import_module(f"{commands.__name__}.{found.name}"))
    Recipes(None).games()  # the recipe models' validators are built at their first use
    Recipes(None).libraries()
    answers, requests = sys.stdout, sys.stdin
    if can_fork():
        signal.pthread_sigmask(signal.SIG_BLOCK, [signal.SIGUSR1])
    for line in requests:
        if not can_fork():
            print(_run_here(json.loads(line)), file=answers, flush=True)
            continue
        request = json.loads(line)
        if "draft" in request["arguments"][:1]:  # it takes a second to load, once for all runs
            loaded.append(importlib.import_module("clever_ferry.drafting.draft"))
        child = os.fork()
        if child == 0:
            try:
                _run(request)
            finally:  # as Python ends where it can't write out what was said
                os._exit(120)
        if request["held"]:
            print(child, flush=True)
        _, status = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(status), flush=True)


def _run_here(request: dict[str, Any]) -> int:
    """Run a module in this very process, and leave no trace of it."""
    kept = (sys.stdin, sys.stdout, sys.stderr, sys.argv)
    folder, environment = Path.cwd(), dict(os.environ)
    with (
        Path(os.devnull).open(encoding="utf-8") as nothing,
        Path(f"{request['out']}.out").open("w", encoding="utf-8") as out,
        Path(f"{request['out']}.err").open("w", encoding="utf-8") as err,
    ):
        sys.stdin, sys.stdout, sys.stderr = nothing, out, err
        os.environ.clear()
        os.environ.update(request["env"])
        os.chdir(request["folder"])
        try:
            return _code_of(request)
        finally:
            here = sys.modules.get("clever_ferry.cli.here")
            if here is not None:
                here._begun.clear()
            gc.collect()  # what a program's end would close
            sys.stdin, sys.stdout, sys.stderr, sys.argv = kept
            os.environ.clear()
            os.environ.update(environment)
            os.chdir(folder)
            signal.signal(signal.SIGINT, signal.default_int_handler)


def _run(request: dict[str, Any]) -> None:
    if request["held"]:
        ctypes.CDLL(None).prctl(_SET_PTRACER, _ANYONE)
        signal.sigwait([signal.SIGUSR1])
    signal.pthread_sigmask(signal.SIG_UNBLOCK, [signal.SIGUSR1])
    os.environ.clear()
    os.environ.update(request["env"])
    os.chdir(request["folder"])
    for number, ending in ((1, "out"), (2, "err")):
        flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC
        os.dup2(os.open(f"{request['out']}.{ending}", flags, 0o600), number)
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
    for number, name in ((1, "stdout"), (2, "stderr")):
        # Where writing is made to fail, what failed is not tried anew at the end.
        raw = open(number, "wb", 0 if request["held"] else -1, closefd=False)  # noqa: SIM115
        setattr(sys, name, io.TextIOWrapper(raw, "utf-8", write_through=request["held"]))
    code = _code_of(request)
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


def _code_of(request: dict[str, Any]) -> int:
    sys.argv = [request["module"], *request["arguments"]]
    try:
        runpy.run_module(request["module"], run_name="__main__", alter_sys=True)
    except SystemExit as ended:
        return ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        import traceback

        traceback.print_exc()
        return 1
    return 0


if __name__ == "__main__":
    _serve()
