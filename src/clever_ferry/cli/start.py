"""The program's first and last moments: Ctrl-C from the start on, an answer without room."""

from __future__ import annotations

import os
import signal
import sys
import time
from collections.abc import Sequence
from contextlib import suppress
from types import FrameType

__all__ = ["run"]

STOPPED = 130
READER_GONE = 141
_AGAIN = 2.0
_SOON = 0.01


class _Stops:
    """Ctrl-C: the first one stops the program, and further ones let it wind up.

    One that comes over two seconds after the last stops it anew, should the first have been lost.
    """

    def __init__(self) -> None:
        self._last = 0.0

    def __call__(self, number: int, frame: FrameType | None) -> None:
        last, self._last = self._last, time.monotonic()
        if self._last - last > _AGAIN:
            raise KeyboardInterrupt

    def unraisable(self, lost: sys.UnraisableHookArgs) -> None:
        """Have Ctrl-C come again where Python has dropped it: as something was thrown away."""
        if lost.exc_type is not KeyboardInterrupt:
            sys.__unraisablehook__(lost)
            return
        import threading

        self._last = 0.0
        threading.Timer(_SOON, _come_again).start()  # not in here, where it would be dropped, too

    @staticmethod
    def end() -> None:
        """From here on, nothing but the end is left, and Ctrl-C changes nothing."""
        signal.signal(signal.SIGINT, signal.SIG_IGN)


def _come_again() -> None:
    import _thread
    import threading

    main = threading.main_thread().ident
    if hasattr(signal, "pthread_kill") and main is not None:
        signal.pthread_kill(main, signal.SIGINT)  # which also ends what it waits for
    else:
        _thread.interrupt_main()


def run(arguments: Sequence[str] | None = None) -> None:
    """Run the program and end with its documented exit code."""
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        stops = _Stops()
        signal.signal(signal.SIGINT, stops)
        sys.unraisablehook = stops.unraisable
    try:
        code = _run(arguments)
        _Stops.end()
    except KeyboardInterrupt:  # while the program was being loaded, or said how it ends
        _Stops.end()
        code = STOPPED
        _say("\nStopped.")
    except OSError as error:  # what went wrong could not be said either
        _Stops.end()
        code = 1
        _say_lost(error)
    except Exception as error:
        _Stops.end()
        code = 1
        _say(f"Something went wrong: {type(error).__name__}: {error}")
    sys.exit(_end(code))


def _run(arguments: Sequence[str] | None) -> int:
    from clever_ferry.cli.main import main

    return main(list(sys.argv[1:] if arguments is None else arguments))


def _end(code: int) -> int:
    """Have the answer out; return the code, another where that can't be."""
    for stream in (sys.stdout, sys.stderr):
        if stream is None or stream.closed:
            continue
        try:
            stream.flush()
        except BrokenPipeError:
            code = code or READER_GONE
            _drop(stream.fileno())
        except OSError as error:
            _drop(stream.fileno())
            if stream is sys.stdout and not code:
                code = 1
                _say_lost(error)
    return code


def _say_lost(error: OSError) -> None:
    _say(f"The answer could not be written: {(error.strerror or str(error)).lower()}.")
    _say("`cferry log` says what was changed, if anything was.")


def _say(text: str) -> None:
    with suppress(OSError, ValueError, AttributeError):
        print(text, file=sys.stderr)


def _drop(handle: int) -> None:
    """Have what is still to be written to a stream that takes nothing go nowhere."""
    with suppress(OSError):
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, handle)
        os.close(nowhere)
