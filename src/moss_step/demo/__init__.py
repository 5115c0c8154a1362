"""Harrow Moss, the invented estate: its ground, shapes and true values, made by code from one seed."""
