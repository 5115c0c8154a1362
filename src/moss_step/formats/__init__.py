"""Reading and writing open formats; the only place that touches files."""
