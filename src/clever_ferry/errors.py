"""The typed errors of the core.

Every refusal says what was found where, why it matters and what to do next;
the command line maps each class to a documented exit code.
"""

from __future__ import annotations

from typing import Literal

__all__ = [
    "ChoiceNeededError",
    "DamagedError",
    "FerryError",
    "HalfDoneError",
    "KeyNeededError",
    "NotFoundError",
    "NotMadeError",
    "NotProvenError",
    "PutBackError",
    "RecipeError",
    "RefusedError",
    "UnknownNameError",
    "UnsupportedError",
    "WrongUseError",
]


Cure = Literal["", "there", "throwaway"]
"""Nothing, something that it does where the saves go, or a throwaway save to be carried onto."""


class FerryError(Exception):
    """A refusal in words a player can act on.

    `what` is one sentence; `details` are further lines (places, choices, findings);
    `advice` is the next step.
    """

    def __init__(
        self,
        what: str,
        *,
        details: tuple[str, ...] = (),
        advice: str = "",
        again: tuple[str, ...] = (),
        in_game: Cure = "",
    ) -> None:
        super().__init__(what)
        self.in_game = in_game
        """What cures it in the target's own game, so that one can wait for that."""
        self.what = what
        self.details = details
        self.advice = advice
        self.again = again
        """Options with which the same command would go on, once the advice was followed."""

    def __str__(self) -> str:
        return "\n".join(filter(None, (self.what, *self.details, self.advice)))


class WrongUseError(FerryError):
    """The request itself can't be understood."""


class UnknownNameError(WrongUseError):
    """A game, edition, slot or harbour of that name does not exist."""


class ChoiceNeededError(WrongUseError):
    """More than one candidate fits, and guessing is forbidden.

    `choices` are pairs of what a player would tell them apart by and the value of `option`
    that decides; they are empty where only another address can.
    """

    def __init__(
        self,
        what: str,
        *,
        details: tuple[str, ...] = (),
        advice: str = "",
        choices: tuple[tuple[str, str], ...] = (),
        option: str = "",
    ) -> None:
        super().__init__(what, details=details, advice=advice)
        self.choices = choices
        self.option = option


class KeyNeededError(WrongUseError):
    """Something is encrypted, and only the user can know its key."""


class NotFoundError(FerryError):
    """Nothing is there to work on, although the request was fine."""


class RefusedError(FerryError):
    """A rule of the target, or of safety, forbids it."""


class DamagedError(FerryError):
    """Input that is not what it should be: a save, a box, an index."""


class UnsupportedError(FerryError):
    """A wrapping or form that no recipe here describes; the bytes themselves may be fine."""


class RecipeError(DamagedError):
    """A recipe that can't be used, with the key, the value and what would be right."""


class NotProvenError(FerryError):
    """The target did not read back as it should; it was put back as it was."""


class PutBackError(FerryError):
    """The work failed on the way; the target is as it was before."""


class NotMadeError(FerryError):
    """A backup or another output could not be written: nothing of it is left, no save changed."""


class HalfDoneError(FerryError):
    """The work failed on the way, and the target could not be put back yet: it may be half."""
