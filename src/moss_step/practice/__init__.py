"""Practice: simulated devices of the field that ship with the program."""
