"""Searching: which berths of an edition a computer, a folder or an export has."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path, PurePath

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.errors import ChoiceNeededError, FerryError, NotFoundError
from clever_ferry.finding.berths import Berth, open_berth
from clever_ferry.finding.computers import Computer
from clever_ferry.finding.grounds import DiskGround, Ground
from clever_ferry.moving.local import LOCAL
from clever_ferry.moving.names import folded
from clever_ferry.moving.shore import Shore
from clever_ferry.naming import Pattern, Value
from clever_ferry.recipes import Edition, Game
from clever_ferry.tree import Beneath

__all__ = [
    "Looked",
    "Search",
    "at_place",
    "berth_at",
    "find_berths",
    "find_loose",
    "folders_fitting",
    "is_place_of",
    "likely",
    "never_started",
    "one_berth",
    "told_apart",
]


class Looked(Struct, frozen=True):
    """A place where berths were looked for, and how far its folders are there."""

    place: str
    reached: str = ""
    """The deepest folder of it that is there; '' where not even the first is."""

    @property
    def words(self) -> str:
        """It, in a line."""
        return f"{self.place}{f' (there only as far as {self.reached})' if self.reached else ''}"


class Search(Struct, frozen=True):
    """What a search for berths found, every place that it looked at, and what it could not see."""

    berths: tuple[Berth, ...] = ()
    looked: tuple[Looked, ...] = ()
    troubles: tuple[str, ...] = ()

    def with_(self, *others: Search) -> Search:
        """Return it together with others."""
        every = (self, *others)
        return Search(
            tuple(berth for one in every for berth in one.berths),
            tuple(looked for one in every for looked in one.looked),
            tuple(dict.fromkeys(trouble for one in every for trouble in one.troubles)),
        )


def find_berths(computer: Computer, game: Game, edition: Edition) -> Search:
    """Find an edition's berths below the known folders of a computer."""
    found: dict[PurePath, Berth] = {}
    looked: list[Looked] = []
    troubles: list[str] = []
    for info, pattern, _ in edition.berths:
        ground = computer.ground(info.under)
        if info.on not in ("any", computer.system) or ground is None or pattern is None:
            continue
        paths, reached = _below(ground, pattern.segments)
        if not paths:
            looked.append(Looked(str(ground.place(pattern.text)), reached))
        else:
            looked.append(Looked(str(ground.place(pattern.text))))
        for path, fields in paths:
            berth = _berth(computer, game, edition, ground, path, fields)
            found.setdefault(berth.root, berth)
        troubles += ground.troubles
    return told_apart(Search(tuple(found.values()), tuple(looked), tuple(dict.fromkeys(troubles))))


def _berth(
    computer: Computer, game: Game, edition: Edition, ground: Ground, path: str,
    fields: Mapping[str, Value],
) -> Berth:  # fmt: skip
    root = ground.place(path)
    return Berth(
        game, edition, computer.name, computer.system, root, ground.files(path), dict(fields),
        above=len(computer.spelled(root)), computer=computer,
    )  # fmt: skip


def _below(
    ground: Ground, segments: Sequence[Pattern]
) -> tuple[list[tuple[str, dict[str, Value]]], str]:
    """Return the folders that a path pattern fits, with their fields, and how far any did."""
    reached: list[tuple[str, dict[str, Value]]] = [("", {})]
    deepest = ""
    for segment in segments:
        inner: list[tuple[str, dict[str, Value]]] = []
        for path, fields in reached:
            exact = f"{path}/{segment.text}" if path else segment.text
            if not segment.fields and ground.has(exact):
                inner.append((exact, fields))
                continue
            if not segment.fields and not ground.fold:
                continue
            for name in ground.folders(path):
                values = segment.match(name, fold=ground.fold)
                if isinstance(values, dict) and all(
                    fields.get(key, value) == value for key, value in values.items()
                ):
                    inner.append((f"{path}/{name}" if path else name, {**fields, **values}))
        reached = inner
        deepest = str(ground.place(inner[0][0])) if inner else deepest
    return reached, deepest


def folders_fitting(
    ground: Ground, segments: Sequence[Pattern]
) -> list[tuple[str, dict[str, Value]]]:
    """Return the folders of a ground that a path pattern fits, with its fields."""
    return _below(ground, segments)[0]


def at_place(computer: Computer, game: Game, edition: Edition, place: PurePath) -> Search:
    """Find the berths at a folder that the user names.

    Where the edition says so (`under = "given"`), they are below that folder, by its pattern, and
    one without fields need not exist yet. Else, or where that is not there, the folder itself is
    the berth; or, where it holds no saves, folders below it that do.
    """
    ground = DiskGround(place, computer.fold, shore=computer.shore)
    given = [pattern for info, pattern, _ in edition.berths if info.under == "given"]
    looked = [Looked(str(ground.place(one.text))) for one in given if one is not None]
    for pattern in given:
        found = _below(ground, pattern.segments)[0] if pattern is not None else []
        if found:
            berths = tuple(_berth(computer, game, edition, ground, *one) for one in found)
            return Search(berths, tuple(looked))
    looked.append(Looked(str(place)))
    if not ground.has(""):
        return Search((), tuple(looked), tuple(ground.troubles))
    own = berth_at(computer, game, edition, place, computer.shore)
    if _saves_by_name(own):
        return Search((own,), tuple(looked), tuple(ground.troubles))
    if not any(given):  # nobody says where below it they are
        loose = find_loose(computer, game, edition, ground)
        return Search(loose.berths or (own,), tuple(looked), loose.troubles)
    if any(_named_so(pattern, place, computer.fold) for pattern in given if pattern is not None):
        return Search((own,), tuple(looked))
    plain = [pattern.text for pattern in given if pattern is not None and not pattern.fields]
    fresh = tuple(_berth(computer, game, edition, ground, text, {}) for text in plain[:1])
    return Search(fresh, tuple(looked), tuple(ground.troubles))


def is_place_of(computer: Computer, edition: Edition, place: PurePath) -> bool:
    """Tell whether an edition's recipe would look for saves in a folder, be that there or not."""
    for info, pattern, _ in edition.berths:
        ground = computer.ground(info.under)
        if info.on not in ("any", computer.system) or ground is None or pattern is None:
            continue
        base = ground.place("")
        deep = len(place.parts) - len(base.parts) == len(pattern.segments)
        if deep and place.is_relative_to(base) and _named_so(pattern, place, computer.fold):
            return True
    return False


def _named_so(pattern: Pattern, place: PurePath, fold: bool) -> bool:
    """Tell whether a folder's own path ends as a pattern does."""
    whole = place if place.is_absolute() else Path(place).absolute()
    ends = whole.parts[-len(pattern.segments) :]
    return len(ends) == len(pattern.segments) and all(
        segment.match(end, fold=fold) is not None
        for segment, end in zip(pattern.segments, ends, strict=True)
    )


def berth_at(
    computer: Computer, game: Game, edition: Edition, place: PurePath, shore: Shore = LOCAL
) -> Berth:
    """Return the berth that a folder is, whatever it holds; its own name gives the fields."""
    ground = DiskGround(place, computer.fold, shore=shore)
    return _berth(computer, game, edition, ground, "", _told_by_name(edition, place))


_DEEPEST, _MOST_FOLDERS, _NEAR = 12, 2_000, 2


def _as_if_beneath(
    berth: Berth, ground: Ground, path: str, given: Mapping[str, str] | None
) -> Berth | None:
    """Return a folder as a berth with one save in it, where it is that save's own folder.

    That is what people zip by hand. The folder's name is lost then, or a zip's now; what it would
    say is filled in, and a crossing takes it from where the save goes.
    """
    for above, made_up in _names_above(berth.edition, berth.root):
        files = Beneath(ground.files(path), above)
        label = f"{berth.game.id}/{berth.edition.id}@{berth.root}"
        own = replace(berth, files=files, label=label, made_up=made_up)
        if _saves_by_name(own) and likely(own, given):
            return own
    return None


def _names_above(edition: Edition, place: PurePath) -> Iterator[tuple[str, frozenset[str]]]:
    """Yield the folders that all of an edition's own pieces lie in, and the fields made up."""
    patterns = [
        file.patterns[0]
        for file in edition.files
        if not (file.shared or file.tree or file.sidecar is not None)
    ]
    values = {name: field.sample() for name, field in edition.fields.items()}
    for count in (1, 2):
        if not patterns or any(len(one.segments) <= count for one in patterns):
            return
        texts = {tuple(segment.text for segment in one.segments[:count]) for one in patterns}
        if len(texts) == 1:
            segments = patterns[0].segments[:count]
            match = segments[-1].match(place.stem, fold=True)
            known = {**values, **(match if isinstance(match, dict) else {})}
            with suppress(FerryError):
                own = {name for segment in segments for name in segment.fields}
                said = match if isinstance(match, dict) else {}
                name = "/".join(segment.write(known) for segment in segments)
                yield name, frozenset(own - said.keys())


def find_loose(
    computer: Computer, game: Game, edition: Edition, ground: Ground,
    given: Mapping[str, str] | None = None,
) -> Search:  # fmt: skip
    """Find an edition's saves anywhere in a folder or an archive, by names and contents.

    `given` is the key of encrypted ones; without it, their contents tell nothing.

    Looks into at most 2,000 folders, and says so where there are more; twelve levels deep. A folder
    that holds saves is not looked into further.
    """
    if not _may_be_in(ground, edition):
        return Search((), (Looked(str(ground.place(""))),), tuple(ground.troubles))
    found: list[Berth] = []
    queue = deque([""])
    seen = 0
    while queue and seen < _MOST_FOLDERS:
        path = queue.popleft()
        seen += 1
        place = ground.place(path)
        berth = _berth(computer, game, edition, ground, path, _told_by_name(edition, place))
        if _saves_by_name(berth) and likely(berth, given):
            found.append(berth)
        elif path.count("/") < _NEAR and (own := _as_if_beneath(berth, ground, path, given)):
            found.append(own)
        elif path.count("/") < _DEEPEST:
            inner = [f"{path}/{name}" if path else name for name in ground.folders(path)]
            queue += [one for one in inner if not ground.aside(one)]
    troubles = list(ground.troubles)
    if queue:
        top = ground.place("")
        troubles.append(f"only the first {_MOST_FOLDERS:,} folders of {top} were looked into")
    return Search(tuple(found), (Looked(str(ground.place(""))),), tuple(troubles))


def _may_be_in(ground: Ground, edition: Edition) -> bool:
    """Tell by the endings of all names, where that can be, whether a save can be there at all."""
    if not edition.endings:
        return True
    try:
        paths = (info.path for info in ground.files("").walk(lambda _: True))
        return any(edition.may_have([folded(path)]) for path in paths)
    except ConnectionError:
        raise
    except (FerryError, OSError):
        return True


def _told_by_name(edition: Edition, place: PurePath) -> Mapping[str, Value]:
    """Return what a folder's own name says, where it is named as a berth is."""
    parts = place.parts if place.is_absolute() else Path(place).absolute().parts
    for _, pattern, _ in edition.berths:
        if pattern is None:
            continue
        for depth in range(len(pattern.segments), 0, -1):
            ends = zip(pattern.segments[-depth:], parts[-depth:], strict=False)
            matches = [segment.match(part, fold=True) for segment, part in ends]
            fields = {k: v for one in matches if isinstance(one, dict) for k, v in one.items()}
            if fields and len(parts) >= depth and all(isinstance(one, dict) for one in matches):
                return fields
    return {}


def _saves_by_name(berth: Berth) -> bool:
    try:
        return bool(open_berth(berth, facts=False, keyless=True).listing.saves)
    except ConnectionError:
        raise
    except (FerryError, OSError):
        return False


def likely(berth: Berth, given: Mapping[str, str] | None = None) -> bool:
    """Tell by contents whether these are an edition's saves: any one reads as it should."""
    try:
        saves = open_berth(berth, given=given).listing.saves
    except ConnectionError:
        raise
    except (FerryError, OSError):
        return False
    if not berth.edition.reader.reads_content:
        return any(not save.problems for save in saves)
    named = berth.edition.reader.from_names
    return any(fact.key not in named for save in saves for fact in save.facts)


def one_berth(
    search: Search, game: Game, edition: Edition, account: str | None, option: str
) -> Berth:
    """Return the only berth, or the one that `account` chooses.

    Raises NotFoundError with every place that was looked at, and ChoiceNeededError with
    the candidates and the option that decides.
    """
    berths = search.berths
    if not berths:
        raise never_started(search, game, edition)
    if account is not None:
        fitting = [berth for berth in berths if _belongs(berth, account)]
        if not fitting:
            raise NotFoundError(
                f"No saves of {game.title} ({edition.title}) belong to {account!r}.",
                details=("There are:", *_choices(berths)),
            )
        berths = tuple(fitting)
    if len(berths) > 1:
        raise ChoiceNeededError(
            f"{len(berths)} places have saves of {game.title} ({edition.title}).",
            details=tuple(_choices(berths)),
            advice=f"Name one of them as above, or say which with {option}.",
            choices=tuple(
                (line, str(berth.root))
                for line, berth in zip(_choices(berths), berths, strict=True)
            ),
            option=option,
        )
    return berths[0]


def never_started(search: Search, game: Game, edition: Edition) -> NotFoundError:
    """Return the error for an edition that has no berth, with what makes one."""
    if not search.looked:
        return NotFoundError(
            f"No saves of {game.title} ({edition.title}) can be here: its recipe names no place "
            "on this system.",
            details=search.troubles,
            advice=edition.start
            or f"If you know the folder, name it: {game.id}/{edition.id}@FOLDER",
        )
    return NotFoundError(
        f"{game.title} ({edition.title}) has no saves here: it was never started, or never saved.",
        details=(
            "Looked at:", *(f"  {one.words}" for one in search.looked), *search.troubles,
        ),
        advice=(edition.start or "Start the game once and save, so that it makes its folder.")
        + " A throwaway save is enough. If its saves are somewhere else, name the folder: "
        f"{game.id}/{edition.id}@FOLDER",
    )  # fmt: skip


def _belongs(berth: Berth, account: str) -> bool:
    """Tell whether a berth is that of an account, or of a folder."""
    if account in map(str, berth.fields.values()):
        return True
    local = berth.folder.shore.local(berth.root) if berth.writable else None
    if account == str(berth.root):
        return True
    return local is not None and Path(account).absolute() == local.absolute()


def told_apart(search: Search) -> Search:
    """Give berths that one address would name addresses of their own: by account, or by folder."""
    addresses = [berth.address for berth in search.berths]
    if len(set(addresses)) == len(addresses):
        return search
    berths = []
    for berth in search.berths:
        likes = [one for one in search.berths if one.address == berth.address]
        if len(likes) > 1:
            own = next(iter(berth.fields.values()), None)
            owns = [next(iter(one.fields.values()), None) for one in likes]
            if own is not None and owns.count(own) == 1 and _addressable(str(own)):
                berth = replace(berth, whose=str(own))
            elif berth.writable:
                berth = replace(berth, at=f"@{berth.root}")
        berths.append(berth)
    return replace(search, berths=tuple(berths))


def _addressable(text: str) -> bool:
    return not set("@:/\\") & set(text)


def _choices(berths: Sequence[Berth]) -> list[str]:
    lines = []
    for berth in berths:
        fields = ", ".join(f"{name} {value}" for name, value in berth.fields.items())
        lines.append(f"  {berth.address}  {fields or berth.root}: {_tell(berth)}")
    return lines


def _tell(berth: Berth) -> str:
    try:
        saves = open_berth(berth, keyless=True).listing.saves
    except (FerryError, OSError):
        return "can't be read"
    shown = "; ".join(
        ", ".join([save.title, *(f"{f.label} {f.text}" for f in save.shown_facts)][:3])
        for save in saves[:4]
    )
    return shown or "no saves"
