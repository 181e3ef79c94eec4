# The public names of dravik.scenarios, listed here alone: loaded when they are first used, and seen by type checkers.
from .scenario import Scenario as Scenario
from .scenario import is_scenario as is_scenario
from .scenario import load_scenario as load_scenario
from .scenario import scenario_names as scenario_names
