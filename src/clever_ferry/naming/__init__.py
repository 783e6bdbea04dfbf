"""Names that read both ways: one pattern with typed fields reads a path and writes one."""

from clever_ferry.naming.fields import (
    ChoiceField,
    DigitsField,
    FieldSpec,
    HexField,
    IdentifierField,
    JoinedField,
    NumberField,
    StampField,
    TextField,
    Value,
    WordField,
)
from clever_ferry.naming.many import Names
from clever_ferry.naming.pattern import Ambiguous, NamingError, Pattern, compile_pattern

__all__ = [
    "Ambiguous",
    "ChoiceField",
    "DigitsField",
    "FieldSpec",
    "HexField",
    "IdentifierField",
    "JoinedField",
    "Names",
    "NamingError",
    "NumberField",
    "Pattern",
    "StampField",
    "TextField",
    "Value",
    "WordField",
    "compile_pattern",
]
