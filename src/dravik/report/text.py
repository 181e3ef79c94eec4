"""Values as text for people."""

__all__ = ["cell_text"]


def cell_text(value: object) -> str:
    """Return a value for people: four significant digits, nothing for None."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return "0" if value == 0.0 else f"{value:.4g}"
    return str(value)
