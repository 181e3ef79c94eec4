"""The audit: what is wrong, doubtful or odd about an aircraft, beyond what the file's syntax shows."""

from dravik.aircraft.checks.finding import Finding
from dravik.aircraft.checks.flight import check_flight
from dravik.aircraft.checks.ground import check_geometry, check_loadings, check_tables
from dravik.aircraft.checks.modes import check_modes
from dravik.aircraft.checks.parts import check_drawing, check_limits, check_shafts
from dravik.aircraft.craft import Aircraft

__all__ = ["Finding", "audit"]


def audit(craft: Aircraft) -> list[Finding]:
    """Return all findings about an aircraft, errors first.

    Errors are against physics or the conventions; warnings are unusual and may be meant; notes are for
    information. The flight checks balance the weight at the ends and the middle of the envelope and take the
    signs of the derivatives there, about the actual centre of gravity; without an envelope at two speeds at sea level.

    >>> import dravik as dv
    >>> [f for f in dv.audit(dv.sample("tarn")) if f.severity == "error"]
    []
    """
    findings = [*check_loadings(craft), *check_limits(craft), *check_geometry(craft), *check_tables(craft)]
    findings += [*check_shafts(craft), *check_drawing(craft), *check_modes(craft)]
    names = craft.definition.loadings
    findings.extend(check_flight([craft if n == craft.loading_name else craft.with_loading(n) for n in names]))
    unique = list(dict.fromkeys(findings))
    return sorted(unique, key=lambda f: ("error", "warning", "note").index(f.severity))
