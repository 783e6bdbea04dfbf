"""The tests; what they reach is learnt from the first module on, where that is asked for."""

from tests import reaching as reaching
