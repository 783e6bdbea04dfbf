"""Texts in the fronts of files: filled up, with their length before them, or a zero behind."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from clever_ferry.studying.guess import (
    LETTER_BITS,
    PRINTABLE,
    Guess,
    in_order,
    number_at,
    shown,
    some,
)

__all__ = ["behind_text", "next_text", "texts"]


def texts(cut: Sequence[bytes]) -> Iterator[Guess]:
    """Yield texts of one size in all, and those that are filled up with zeros to one size."""
    at = 1
    length = len(cut[0])
    while at < length - 3:
        spans = [_text_at(one, at) for one in cut]
        found = _one_text(cut, at, spans) if all(map(_is_words, spans)) else None
        if found is not None and not _text_at(cut[0], at - 1).startswith(spans[0]):
            yield found
            at += found.size
        else:
            at += 1


def _one_text(cut: Sequence[bytes], at: int, spans: Sequence[bytes]) -> Guess | None:
    longest, shortest = max(map(len, spans)), min(map(len, spans))
    # So many tries, of which some are letters by chance.
    bits = LETTER_BITS * sum(map(len, set(spans))) - 7.0
    ends = (_zeros(one, at + len(span)) for one, span in zip(cut, spans, strict=True))
    filled = min(ends) - at
    if filled > longest and longest > shortest >= 3:
        spec = {"type": "text", "size": filled, "pad": 0}
        says = "a text, filled up with zeros"
        return Guess(at, filled, "text", says, some(map(shown, spans)), max(1.0, bits), spec)
    if longest == shortest >= 4:
        spec = {"type": "text", "size": longest}
        return Guess(at, longest, "text", "a text", some(map(shown, spans)), max(1.0, bits), spec)
    return None


def next_text(fronts: Sequence[bytes]) -> Guess | None:
    """Return the first text that is not of one length in all fronts, with what says how long it is.

    Of one front alone, the first of at least four letters whose length stands before it.
    """
    for at in range(min(map(len, fronts), default=0) - 2):
        for width, order in (
            (4, "little"),
            (4, "big"),
            (2, "little"),
            (2, "big"),
            (1, "little"),
            (0, ""),
        ):
            texts = [_framed(one, at, width, order) for one in fronts]
            if not all(texts):
                continue
            lengths = {len(one) for one in texts}
            if (len(lengths) < 2 and len(fronts) > 1) or (width == 0 and len(lengths) < 2):
                continue
            if len(fronts) == 1 and min(lengths) < 4:
                continue
            length = {"type": f"u{8 * width}", "order": order} if width > 1 else "u8"
            frame = {"length": length} if width else {"ends": "zero"}
            told = (
                f"its length before it, in {in_order(width, order)}"
                if width
                else "a zero behind it"
            )
            # Of each different text, its letters and the number that says how many they are.
            every = set(texts)
            bits = LETTER_BITS * sum(map(len, every)) + 6.0 * len(every) * bool(width) - 10.0
            return Guess(
                at, max(lengths) + (width or 1), "text", f"a text, {told}", some(map(shown, texts)),
                max(1.0, bits), {"type": "text", **frame},
            )  # fmt: skip
    return None


def _framed(raw: bytes, at: int, width: int, order: str) -> bytes:
    """Return the text that begins at a byte with its length, or ends with a zero; b'' for none."""
    if width:
        size = number_at(raw, at, width, order)
        text = raw[at + width : at + width + size]
        return text if 1 <= size == len(text) and _is_words(text) else b""
    end = raw.find(0, at)
    text = raw[at:end]
    return text if end - at >= 3 and _is_words(text) else b""


def behind_text(raw: bytes, text: Guess) -> bytes:
    """Return what stands behind a text in one front."""
    length = text.spec.get("length")
    if length is None:
        return raw[raw.find(0, text.at) + 1 :]
    width = 1 if length == "u8" else int(length["type"][1:]) // 8
    order = "little" if length == "u8" else length["order"]
    return raw[text.at + width + number_at(raw, text.at, width, order) :]


def _is_words(raw: bytes) -> bool:
    """Tell whether bytes read as words: mostly letters, digits and spaces."""
    try:
        text = raw.decode()
    except UnicodeDecodeError:
        return False
    plain = sum(char.isalnum() or char in " _-.'" for char in text)
    return text.isprintable() and 10 * plain >= 8 * len(text)


def _text_at(raw: bytes, at: int) -> bytes:
    end = at
    while end < len(raw) and raw[end] in PRINTABLE:
        end += 1
    return raw[at:end]


def _zeros(raw: bytes, at: int) -> int:
    while at < len(raw) and raw[at] == 0:
        at += 1
    return at
