"""The audit: every check of an aircraft, and their findings in order."""

from dravik.aircraft import Aircraft
from dravik.checks.finding import Finding
from dravik.checks.flight import check_flight
from dravik.checks.ground import check_geometry, check_loadings, check_tables
from dravik.checks.mode_logic import check_modes
from dravik.checks.parts import check_drawing, check_limits, check_shafts

__all__ = ["audit"]


def audit(craft: Aircraft) -> list[Finding]:
    """Return all findings about an aircraft, errors first.

    Errors are against physics or the conventions; warnings are unusual and may be meant; notes are for information. The
    flight checks balance the weight at the ends and the middle of the envelope and take the signs of the derivatives
    there, about the actual centre of gravity; without an envelope at two speeds at sea level.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.

    Returns
    -------
    list of Finding
        Severity, place, what is found, and what to do.

    Examples
    --------
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
