"""Putting values in classes, class breaks and class areas."""
