"""How it is worked out: arrays and model types in, the same out; no files, no interface."""
