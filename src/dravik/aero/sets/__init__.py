"""Sets of tables: built, written, read, compared, and asked for derivatives and margins."""
