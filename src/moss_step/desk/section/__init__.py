"""The section: values along a line drawn on the plan."""
