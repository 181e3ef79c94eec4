"""Pages of text, tables and figures: HTML in one file, PDF, and tables laid out in a width."""
