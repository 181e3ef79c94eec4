"""Handling qualities: modes and responses held against published criteria."""

from dravik.handling.criteria import Assessment, Criterion
from dravik.handling.judging import handling_qualities
from dravik.handling.modal import modal_criteria

__all__ = ["Assessment", "Criterion", "handling_qualities", "modal_criteria"]
