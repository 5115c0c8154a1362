"""Kernels of earthwork."""
