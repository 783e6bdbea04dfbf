"""`cferry recipe`: recipes listed, shown, checked, taken in and given away."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Sequence
from pathlib import Path, PurePath
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import click

from clever_ferry.cli.exits import DAMAGED, echo_json
from clever_ferry.cli.here import agree, can_ask, ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, counted, escape, place, table
from clever_ferry.cli.trials import print_trials, trials_data
from clever_ferry.errors import FerryError, RefusedError, UnsupportedError, WrongUseError
from clever_ferry.model import Model, schema_of
from clever_ferry.moving.outputs import new_file
from clever_ferry.recipes.bequest_models import BequestRecipe
from clever_ferry.recipes.models import BoxRecipe, GameRecipe, LibraryRecipe
from clever_ferry.results import RecipeTried
from clever_ferry.visible import visible

if TYPE_CHECKING:
    from clever_ferry.ferry import Ferry
    from clever_ferry.recipes.loading import RecipeSource
    from clever_ferry.recipes.pairing import PairTold

__all__ = ["command"]


@click.group("recipe")
def command() -> None:
    """List, show, check, take in and share recipes.

    They are TOML files that describe games, boxes and libraries.
    """


@command.command("list")
@json_option
@click.pass_obj
def list_(computer: Path | None, as_json: bool) -> None:
    """List all recipes: those that come with the tool, and your own."""
    ferry = ferry_here(computer)
    recipes = ferry.recipes
    rows = [_row(source, ferry) for source in recipes.sources()]
    if as_json:
        echo_json({"recipes": rows})
        return
    out = console()
    shown = table("Recipe", "For", "Editions", "Whose")
    for row in rows:
        about = "[bad]can't be used[/]" if row["fault"] else escape(row["title"])
        shown.add_row(escape(row["id"]), about, escape(", ".join(row["editions"])), row["origin"])
    out.print(shown)
    for row in rows:
        if row["fault"]:
            out.print(f"[bad]{escape(row['fault'])}[/]", soft_wrap=True)
    out.print(f"Your own go into: {escape(place(recipes.own or Path()))}")


def _row(source: RecipeSource, ferry: Ferry) -> dict[str, Any]:
    row: dict[str, Any] = {
        "id": source.id, "title": None, "kind": None, "editions": [],
        "origin": source.origin, "fault": None,
    }  # fmt: skip
    try:
        recipe = ferry.recipes.check_source(source)
        if isinstance(recipe, BequestRecipe):
            ferry.bequests.compiled(recipe, source.file.with_name(source.id))
    except FerryError as error:
        return {**row, "fault": error.what}
    if isinstance(recipe, GameRecipe):
        return {
            **row,
            "title": recipe.game.title,
            "kind": "game",
            "editions": list(recipe.editions),
        }
    if isinstance(recipe, BoxRecipe):
        return {**row, "title": recipe.box.title, "kind": "box"}
    if isinstance(recipe, BequestRecipe):
        return {**row, "title": recipe.bequest.title, "kind": "bequest"}
    return {**row, "title": recipe.library.title, "kind": "library"}


@command.command("show")
@click.argument("ident", metavar="RECIPE")
@json_option
@click.pass_obj
def show(computer: Path | None, ident: str, as_json: bool) -> None:
    """Print a recipe's file, to read it or to begin your own from it."""
    source = ferry_here(computer).recipes.source(ident)
    if as_json:
        echo_json({"id": source.id, "origin": source.origin, "text": source.text()})
    else:
        click.echo(visible(source.text(), also="\t\r"), nl=False)


@command.command("schema")
@click.option("--box", is_flag=True, help="The schema of box recipes instead of games'.")
@click.option("--library", is_flag=True, help="The schema of recipes for game libraries.")
@click.option("--bequest", is_flag=True, help="The schema of recipes for pairs of games.")
@click.pass_obj
def schema(computer: Path | None, box: bool, library: bool, bequest: bool) -> None:
    """Print the JSON Schema of recipes, for an editor that checks TOML as you write."""
    ferry_here(computer)
    kinds: dict[type[Model], bool] = {
        BoxRecipe: box, LibraryRecipe: library, BequestRecipe: bequest
    }  # fmt: skip
    chosen = [kind for kind, asked in kinds.items() if asked]
    if len(chosen) > 1:
        raise WrongUseError("Say one kind of recipe.")
    model = chosen[0] if chosen else GameRecipe
    click.echo(json.dumps(schema_of(model), indent=2, ensure_ascii=False))


@command.command("check")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--try", "examples", type=click.Path(path_type=Path), metavar="FOLDER", multiple=True,
    help="Also try it on a folder of real saves; say it once for each folder.",
)  # fmt: skip
@click.option(
    "--pairs",
    is_flag=True,
    help="Also say what crosses between each two editions, what is made anew, and what is lost.",
)
@json_option
@click.pass_obj
def check(
    computer: Path | None, file: Path, examples: tuple[Path, ...], pairs: bool, as_json: bool
) -> None:
    """Read a recipe FILE and say what is wrong with it, key by key.

    With --try, also say what it reads of a FOLDER of real saves, how sure that is, what it
    leaves unread, and whether writing would give the same bytes again. Where the folders hold
    saves of several editions, one of each is carried to the others and back, on copies of
    the folders. Nothing of yours is changed.
    """
    ferry = ferry_here(computer)
    recipes = ferry.recipes
    try:
        recipe = recipes.check(file)
        if isinstance(recipe, BequestRecipe):
            ferry.bequests.compiled(recipe, file.with_name(recipe.bequest.id))
    except FerryError as error:
        if not as_json:
            raise
        echo_json({"file": str(file), "right": False, "what": error.what,
                   "faults": list(error.details)})  # fmt: skip
        raise click.exceptions.Exit(DAMAGED) from None
    told = ferry.told_pairs(file) if pairs else []
    tried, rehearsed = ferry.try_recipe(file, examples) if examples else RecipeTried([], [])
    if as_json:
        answer = trials_data(RecipeTried(tried, rehearsed))
        more = {"pairs": [_pair_data(one) for one in told]} if pairs else {}
        echo_json({"file": str(file), "right": True, "faults": [], **answer, **more})
        return
    out = console()
    if isinstance(recipe, GameRecipe):
        out.print(f"[good]✓[/] {escape(str(file))} is right: {escape(recipe.game.title)}, "
                  f"{counted(len(recipe.editions), 'edition')}.")  # fmt: skip
        for name, edition in recipe.editions.items():
            out.print(f"  {escape(recipe.game.id)}/{escape(name)}  {escape(edition.title)}")
    else:
        what = (
            recipe.box if isinstance(recipe, BoxRecipe)
            else recipe.library if isinstance(recipe, LibraryRecipe) else recipe.bequest
        )  # fmt: skip
        out.print(f"[good]✓[/] {escape(str(file))} is right: {escape(what.title)}.")
    if pairs:
        _print_pairs(told)
    if examples:
        print_trials(RecipeTried(tried, rehearsed))
    if recipes.own and file.resolve().parent != recipes.own.resolve():
        out.print(f"To use it, put it into {escape(place(recipes.own))}")


@command.command("add")
@click.argument("file", metavar="FILE|ZIP", type=click.Path(path_type=Path))
@click.option("--yes", is_flag=True, help="Do it without asking.")
@click.pass_obj
def add(computer: Path | None, file: Path, yes: bool) -> None:
    """Take in a recipe that somebody gave you.

    It is checked first, and you are told what it lets the tool look at, write, take away and start.
    """
    from clever_ferry.recipes.sharing import taken_from, touches

    recipes = ferry_here(computer).recipes
    assert recipes.own is not None
    name, text = taken_from(file)
    with TemporaryDirectory(prefix="cferry-recipe-") as scratch:
        copy = Path(scratch, PurePath(name).name)
        copy.write_text(text, "utf-8", newline="")
        try:
            recipe = recipes.check(copy)
        except FerryError as error:
            error.what = error.what.replace(str(copy), str(file))
            raise
    if isinstance(recipe, BequestRecipe):
        raise UnsupportedError(
            "A recipe for a pair of games has a folder beside it, and is not taken in alone.",
            advice=f"Put both into {recipes.own}",
        )
    target = recipes.own / f"{_titled(recipe).id}.toml"
    out = console()
    out.print(f"[bold]{escape(_titled(recipe).title)}[/], as {escape(name)} describes it:")
    for line in touches(recipe):
        out.print(f"  {escape(line)}", soft_wrap=True)
    if target.exists() and target.read_text("utf-8") == text:
        out.print("It is one of your recipes already.")
        return
    agree("Take this recipe in?", "taken in", yes=yes, ask=can_ask())
    target.parent.mkdir(parents=True, exist_ok=True)
    with new_file(target) as part:
        part.write_text(text, "utf-8", newline="")
    out.print(f"[good]✓[/] Taken in: {escape(place(target))}", soft_wrap=True)
    if isinstance(recipe, GameRecipe):
        out.print(f"Next: cferry look {escape(recipe.game.id)}")


@command.command("share")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option(
    "-o", "--output", "target", required=True, metavar="FILE.zip",
    type=click.Path(path_type=Path, dir_okay=False), help="The zip to write.",
)  # fmt: skip
@click.pass_obj
def share(computer: Path | None, file: Path, target: Path) -> None:
    """Pack a recipe of yours for others, without what is only yours.

    Remarks that tell of your saves are left out. Where your user name, this computer's, or an
    account found on it stands in the recipe itself, nothing is packed, and you are told where.
    Saves are never packed.
    """
    from clever_ferry.recipes.sharing import private_in, taken_from, without_evidence

    if target.suffix.lower() != ".zip":
        raise WrongUseError(f"{target} is no zip by its name.", advice="Such as: -o my-game.zip")
    ferry = ferry_here(computer)
    _, text = taken_from(file)
    recipe = ferry.recipes.check(file)
    if isinstance(recipe, BequestRecipe):
        raise UnsupportedError("A recipe for a pair of games has a folder beside it: pack both.")
    made = without_evidence(text)
    own = {ferry.computer.name, *(one.name for one in (ferry.computer.folders.get("home"),) if one)}
    own |= {str(value) for sight in ferry.look().sights for value in sight.berth.fields.values()}
    told = private_in(made, sorted(word for word in own if len(word) > 2))
    if told:
        raise RefusedError(
            f"{file} has in it what is only yours, so it is not packed.",
            details=tuple(told),
            advice="Write something else there, then run the same command again.",
        )
    with new_file(target) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(zipfile.ZipInfo(f"{_titled(recipe).id}.toml"), made)
    out = console()
    left = len(text.splitlines()) - len(made.splitlines())
    more = f", without {counted(left, 'line')} of remarks" if left else ""
    out.print(f"[good]✓[/] Packed: {escape(str(target))}{more}. No save is in it.", soft_wrap=True)
    out.print("Read it once more before you give it away. Others say: cferry recipe add "
              f"{escape(target.name)}", soft_wrap=True)  # fmt: skip


def _titled(recipe: GameRecipe | BoxRecipe | LibraryRecipe) -> Any:
    """Return what a recipe says of itself: its id and title."""
    if isinstance(recipe, GameRecipe):
        return recipe.game
    return recipe.box if isinstance(recipe, BoxRecipe) else recipe.library


def _pair_data(one: PairTold) -> dict[str, Any]:
    return {
        "from": one.source.id, "to": one.target.id, "crosses": list(one.crosses),
        "made": list(one.made), "taken": list(one.taken), "lost": list(one.lost),
    }  # fmt: skip


def _print_pairs(pairs: Sequence[PairTold]) -> None:
    out = console()
    if not pairs:
        out.print("It has one edition alone, or others that are only read: there are no pairs.")
        return
    shown = table("From", "To", "Crosses", "Made anew", "From the target", "Lost")
    for one in pairs:
        columns = (one.crosses, one.made, one.taken, one.lost)
        cells = [escape("\n".join(column)) or "[dim]–[/]" for column in columns]
        shown.add_row(escape(one.source.id), escape(one.target.id), *cells)
    out.print(shown)
