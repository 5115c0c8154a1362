"""The block view: the ground in three dimensions with what the Key shows draped over it."""
