"""Detection rules: derived from effects, judged on a state, exported as a script."""

from yendo.detect.derive import for_copies, for_effects
from yendo.detect.evaluate import RuleVerdict, detected, judge, seen, sight_of

__all__ = ["RuleVerdict", "detected", "for_copies", "for_effects", "judge", "seen", "sight_of"]
