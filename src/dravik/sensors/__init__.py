"""Sensors as data: what they measure at their place, their errors, and for which signals they stand."""

from dravik.sensors.budget import BudgetRow, allan_deviation, error_budget, expected_allan
from dravik.sensors.compiling import SEED, Setting, fed_inputs, sensor_formulas, terms_of
from dravik.sensors.definition import Sensor, chosen_sensors, refuse_sets
from dravik.sensors.errors import ErrorKeys, ErrorTerms, error_terms
from dravik.sensors.estimators import Estimator
from dravik.sensors.kinds import KINDS_OF_SENSORS
from dravik.sensors.magnetism import dipole_field
from dravik.sensors.standing_in import stand_ins

__all__ = [
    "KINDS_OF_SENSORS",
    "SEED",
    "BudgetRow",
    "ErrorKeys",
    "ErrorTerms",
    "Estimator",
    "Sensor",
    "Setting",
    "allan_deviation",
    "chosen_sensors",
    "dipole_field",
    "error_budget",
    "error_terms",
    "expected_allan",
    "fed_inputs",
    "refuse_sets",
    "sensor_formulas",
    "stand_ins",
    "terms_of",
]
