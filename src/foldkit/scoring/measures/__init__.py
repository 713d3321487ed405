"""The registry of measures, one file each."""

from .exact import EXACT
from .fields import FIELDS, FORMAT, field_matches
from .loss import LOSS
from .measure import Measure, Reply
from .ranked import RANKED
from .similarity import SIMILARITY

MEASURES: dict[str, Measure] = {measure.name: measure for measure in (LOSS, EXACT, FIELDS, FORMAT, SIMILARITY, RANKED)}

__all__ = ["MEASURES", "Measure", "Reply", "field_matches"]
