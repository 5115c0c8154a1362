"""Pictures of the kinds of values, a module each; the registry finds them."""
