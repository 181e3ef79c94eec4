"""What an audit finds."""

from dataclasses import dataclass

__all__ = ["Finding"]


@dataclass(frozen=True)
class Finding:
    """One finding: ``severity`` (error, warning, note), where, what, and what to do."""

    severity: str
    place: str
    what: str
    do: str
