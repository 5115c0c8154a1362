"""Kernels: what is compiled, apart from what calls it. The compiler infers their types."""
