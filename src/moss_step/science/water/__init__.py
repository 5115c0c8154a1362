"""Water: where it collects, which way it runs, and what drains to a point."""
