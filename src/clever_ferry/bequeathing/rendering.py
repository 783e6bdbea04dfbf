"""Files of the successor out of templates, in a sandbox; each value is written as its form has it.

What a template says stands as it is; what it fills in (`{{ … }}`) becomes a value of the file's
form: in JSON a JSON value, in a text of blocks a number or a text between quotes. So nothing that
a save says can be taken for more than a value.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from html import escape
from json.encoder import encode_basestring
from typing import Any

from jinja2 import BaseLoader, StrictUndefined, TemplateError, TemplateSyntaxError, Undefined, nodes
from jinja2.exceptions import SecurityError, TemplateNotFound
from jinja2.sandbox import ImmutableSandboxedEnvironment
from markupsafe import Markup

from clever_ferry.bequeathing.rows import number, text
from clever_ferry.documents.spec import BlocksSpec, FormSpec, SectionsSpec
from clever_ferry.errors import DamagedError, FerryError

__all__ = ["FORMS", "Templates"]

FORMS = ("json", "toml", "xml", "yaml", "text")
"""Forms without a spec that files are written in."""
_LARGEST = 1 << 30
"""Bytes of one file."""
_LONGEST = 1 << 20
"""Of what a template multiplies: characters, or elements."""


class _Sandbox(ImmutableSandboxedEnvironment):
    """Templates that reach nothing, and whose sums and texts stay within bounds."""

    intercepted_binops = frozenset(["*", "**"])

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        """Multiply, within bounds."""
        for one, other in ((left, right), (right, left)):
            if hasattr(one, "__len__") and isinstance(other, int) and len(one) * other > _LONGEST:
                raise SecurityError("a text or list of over a million elements")
        if operator == "**" and (abs(left) > 1_000_000 or abs(right) > 64):
            raise SecurityError("a power beyond all bounds")
        return super().call_binop(context, operator, left, right)


class Templates:
    """The templates of one recipe."""

    def __init__(self, read: Callable[[str], str], forms: Mapping[str, FormSpec]) -> None:
        """`read` gives a template's text by its name; raises FerryError where there is none."""
        self._read, self._forms = read, forms
        self._environments: dict[str, _Sandbox] = {}

    def check(self, name: str, form: str) -> set[str]:
        """Return the names that a template asks for: `options.pace`, `realms`, and the like.

        Raises DamagedError, with the line, where it can't be read.
        """
        found: set[str] = set()
        waiting, seen = [name], set()
        while waiting:
            one = waiting.pop()
            if one in seen:
                continue
            seen.add(one)
            try:
                tree = self._environment(form).parse(self._read(one), one)
            except TemplateSyntaxError as error:
                told = f"{one}, line {error.lineno}: {error.message}"
                raise DamagedError(told) from None
            for got in tree.find_all(nodes.Getattr):
                found |= _asked(got.node, got.attr)
            for item in tree.find_all(nodes.Getitem):
                found |= _asked(item.node, _constant(item.arg))
            found |= {inner.name for inner in tree.find_all(nodes.Name)}
            for kind in (nodes.Include, nodes.Import, nodes.FromImport, nodes.Extends):
                for further in tree.find_all(kind):
                    named = _constant(getattr(further, "template", None))
                    waiting += [named] if isinstance(named, str) else []
        return found

    def write(self, name: str, form: str, values: Mapping[str, Any]) -> Iterator[str]:
        """Yield a file's text, part by part.

        Raises DamagedError where the template fails, or a value can't stand in such a file.
        """
        size = 0
        try:
            for part in self._environment(form).get_template(name).generate(values):
                size += len(part)
                if size > _LARGEST:
                    raise DamagedError(f"{name} writes over {_LARGEST:,} characters.")
                yield part
        except (TemplateError, SecurityError, ArithmeticError, LookupError, TypeError,
                ValueError, RecursionError) as error:  # fmt: skip
            line = _line_in(error, name)
            raise DamagedError(f"The template {name}{line} fails: {error}.") from None

    def _environment(self, form: str) -> _Sandbox:
        if form not in self._environments:
            self._environments[form] = _Sandbox(
                loader=_Loader(self._read), undefined=StrictUndefined, keep_trailing_newline=True,
                trim_blocks=True, lstrip_blocks=True, finalize=_writer(form, self._forms),
                cache_size=50,
            )  # fmt: skip
        return self._environments[form]


class _Loader(BaseLoader):
    def __init__(self, read: Callable[[str], str]) -> None:
        self._read = read

    def get_source(self, _: Any, template: str) -> tuple[str, str | None, Callable[[], bool]]:
        """Return a template's text."""
        try:
            return self._read(template), template, lambda: True
        except FerryError as error:
            raise TemplateNotFound(template, error.what) from None


def _asked(inner: nodes.Expr, key: object) -> set[str]:
    """Return what is asked of a name; `*` where it is not said what."""
    name = inner.name if isinstance(inner, nodes.Name) else ""
    return {f"{name}.{'*' if key is None else key}"}


def _constant(node: object) -> Any:
    return node.value if isinstance(node, nodes.Const) else None


def _line_in(error: BaseException, name: str) -> str:
    """Return where in a template something failed, in words."""
    trace, line = error.__traceback__, 0
    while trace is not None:
        if trace.tb_frame.f_code.co_filename == name:
            line = trace.tb_lineno
        trace = trace.tb_next
    return f", line {line}," if line else ""


def _writer(form: str, forms: Mapping[str, FormSpec]) -> Callable[[Any], Any]:
    """Return what writes one value as a form has it."""
    spec = forms.get(form)

    def write(value: Any) -> Any:
        if isinstance(value, Markup | Undefined):  # the template's own words; a name that is not
            return value
        return one(value)

    if isinstance(spec, BlocksSpec | SectionsSpec):
        quote, escaped = spec.quote, spec.escape

        def one(value: Any) -> str:
            return _quoted(value, quote, escaped)
    else:
        one = {"json": _json, "toml": _toml, "yaml": _json, "xml": _xml}.get(form, _plain)
    return write


def _json(value: Any) -> str:
    if type(value) is int:
        return str(value)
    if type(value) is str:
        return encode_basestring(value)
    return json.dumps(value, ensure_ascii=False, allow_nan=False)


def _toml(value: Any) -> str:
    if value is None or isinstance(value, dict):
        raise ValueError("such a value can't stand in TOML")
    return json.dumps(value, ensure_ascii=False, allow_nan=False).replace("\x7f", "\\u007f")


def _xml(value: Any) -> str:
    written = text(value)
    if any(ord(char) < 32 and char not in "\t\n" for char in written):
        raise ValueError(f"{written!r:.60} has a character that XML can't have")
    return escape(written).replace("\n", "&#10;")


def _plain(value: Any) -> str:
    written = text(value)
    if any(ord(char) < 32 or ord(char) in (0x7F, 0x85, 0x2028, 0x2029) for char in written):
        raise ValueError(f"{written!r:.60} is more than one line")
    return written


def _quoted(value: Any, quote: str | None, escaped: str | None) -> str:
    if value is None:
        raise ValueError("there is no value where one is filled in")
    if number(value) is not None:
        return text(value)
    written = _plain(value)
    if isinstance(value, bool) or quote is None:
        if quote is None and not written.replace("_", "").replace("-", "").isalnum():
            raise ValueError(f"{written!r:.60} can't stand without quotes")
        return written
    if escaped is not None:
        written = written.replace(escaped, escaped * 2).replace(quote, escaped + quote)
    elif quote in written:
        raise ValueError(f"{written!r:.60} has a quote in it, which can't be written there")
    return f"{quote}{written}{quote}"
