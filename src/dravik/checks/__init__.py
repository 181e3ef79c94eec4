"""The audit: what is wrong, doubtful or odd about an aircraft, beyond what the file's syntax shows."""

from dravik.checks.auditing import audit
from dravik.checks.finding import Finding

__all__ = ["Finding", "audit"]
