# The public names of dravik.scenarios, listed here alone: loaded when they are first used, and seen by type checkers.
from .definition import ScenarioDefinition as ScenarioDefinition
from .loading import is_scenario as is_scenario
from .loading import load_scenario as load_scenario
from .loading import scenario_names as scenario_names
from .scenario import Scenario as Scenario
