"""Kernels: points gathered by the cells that they lie in."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def cell_numbers(x, y, x0, y0, dx, dy, rows, cols, numbers):
    """Number of the cell of each point, row by row; -1 outside. A point on the right or lower edge of the
    frame belongs to the last cell.
    """
    for k in range(x.size):
        col = int(np.floor((x[k] - x0) / dx))
        row = int(np.floor((y0 - y[k]) / dy))
        if col == cols and x[k] <= x0 + cols * dx:
            col -= 1
        if row == rows and y[k] >= y0 - rows * dy:
            row -= 1
        inside = 0 <= col < cols and 0 <= row < rows
        numbers[k] = row * cols + col if inside else -1


@numba.njit(cache=True, nogil=True)
def count_cells(numbers, count):
    """Points in each cell."""
    for k in range(numbers.size):
        if numbers[k] >= 0:
            count[numbers[k]] += 1


@numba.njit(cache=True, nogil=True)
def add_cells(numbers, values, count, total):
    """Count and sum of the values in each cell; NaN counts for nothing."""
    for k in range(numbers.size):
        cell = numbers[k]
        if cell >= 0 and values[k] == values[k]:
            count[cell] += 1
            total[cell] += values[k]


@numba.njit(cache=True, nogil=True)
def add_squares(numbers, values, mean, squares):
    """Sum of squared deviations from the means of the cells."""
    for k in range(numbers.size):
        cell = numbers[k]
        if cell >= 0 and values[k] == values[k]:
            off = values[k] - mean[cell]
            squares[cell] += off * off


@numba.njit(cache=True, nogil=True)
def extreme_cells(numbers, values, sign, best):
    """Number of the point with the highest value (``sign`` 1) or the lowest (-1) of each cell; -1 where
    there is none. Of equal ones the first counts.
    """
    for k in range(numbers.size):
        cell = numbers[k]
        if cell >= 0 and values[k] == values[k]:
            held = best[cell]
            if held < 0 or sign * values[k] > sign * values[held]:
                best[cell] = k


@numba.njit(cache=True, nogil=True)
def extreme_values(numbers, values, sign, best):
    """The highest value (``sign`` 1) or the lowest (-1) of each cell, beside those so far; NaN counts for
    nothing.
    """
    for k in range(numbers.size):
        cell = numbers[k]
        if cell >= 0 and values[k] == values[k]:
            held = best[cell]
            if held != held or sign * values[k] > sign * held:
                best[cell] = values[k]


@numba.njit(cache=True, nogil=True)
def order_by_cell(numbers, starts, order):
    """Numbers of the points, cell after cell and in their order within one; ``starts`` are the places of the
    first of each cell, and of the end (Knuth 1973, distribution counting). Points outside are left out.
    """
    for k in range(numbers.size):
        if numbers[k] >= 0:
            starts[numbers[k] + 1] += 1
    for cell in range(1, starts.size):
        starts[cell] += starts[cell - 1]
    free = starts.copy()
    for k in range(numbers.size):
        cell = numbers[k]
        if cell >= 0:
            order[free[cell]] = k
            free[cell] += 1


@numba.njit(cache=True, nogil=True)
def place_in_order(numbers, first, free, order):
    """Put numbers of points, from ``first`` on, to the places that are free for their cells."""
    for k in range(numbers.size):
        cell = numbers[k]
        if cell >= 0:
            order[free[cell]] = first + k
            free[cell] += 1
