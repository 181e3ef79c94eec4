"""The book of an aircraft: all that can be said of it, chapter by chapter, in one page or one PDF."""

from dravik.book.asked import BookRequest
from dravik.book.writing import BookEntry, write_aircraft_book

__all__ = ["BookEntry", "BookRequest", "write_aircraft_book"]
