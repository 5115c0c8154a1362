"""The table: rows of shapes, tables and classes."""
