"""Handling qualities: modes and responses held against published criteria."""

from dravik.handling.criteria import Criterion, Evaluation
from dravik.handling.judging import evaluate
from dravik.handling.modal import modal_criteria

__all__ = ["Criterion", "Evaluation", "evaluate", "modal_criteria"]
