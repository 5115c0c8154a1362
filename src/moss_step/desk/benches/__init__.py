"""The bench panels, one module a bench."""
