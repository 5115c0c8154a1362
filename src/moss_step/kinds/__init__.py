"""The kinds of values that steps take and give: a module each, found by the registry."""
