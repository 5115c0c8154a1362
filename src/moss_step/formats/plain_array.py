"""An array in a file as it lies in memory, behind a short head. Many threads may read such files at once: the
reader of NumPy's own format parses Python, which Python 3.11 does not do in two threads without fail.
"""

from __future__ import annotations

import io
import json
import math
import os
from collections.abc import Sequence
from pathlib import Path
from typing import BinaryIO

import numpy as np
from blake3 import blake3

HEAD = 128
"""Bytes of the head: type, shape and hash as JSON, filled up with blanks."""


def write_array(file: BinaryIO, array: np.ndarray) -> None:
    """Write an array, with the hash of its bytes (BLAKE3)."""
    plain = np.ascontiguousarray(array)
    head = {"type": array.dtype.str, "shape": array.shape, "hash": _hash_of(plain)}
    file.write(json.dumps(head).encode().ljust(HEAD))
    file.write(plain.data)


def array_bytes(arrays: Sequence[np.ndarray]) -> bytes:
    """What a file holds of some arrays that are written one after another."""
    held = io.BytesIO()
    for array in arrays:
        write_array(held, array)
    return held.getvalue()


def arrays_in(data: bytes) -> list[np.ndarray]:
    """The arrays that are held by some bytes; read only.

    Raises ValueError where these are not what was written, by their hashes.
    """
    found, held = list[np.ndarray](), io.BytesIO(data)
    while held.tell() < len(data):
        dtype, shape, said = _head_of(held)
        size = math.prod(shape) * dtype.itemsize
        if len(data) < held.tell() + size:
            raise ValueError("it is cut short")
        array = np.frombuffer(data, dtype, math.prod(shape), held.tell()).reshape(shape)
        if _hash_of(array) != said:
            raise ValueError("its bytes are not those that were written")
        held.seek(size, os.SEEK_CUR)
        found.append(array)
    return found


def shape_in(head: bytes) -> tuple[np.dtype, tuple[int, ...]]:
    """The type and the shape of the array whose file begins with a head.

    Raises ValueError where it holds something else.
    """
    return _head_of(io.BytesIO(head))[:2]


def _hash_of(array: np.ndarray) -> str:
    return blake3(array.reshape(-1).view(np.uint8).data).hexdigest(length=16)


def is_sound(path: Path) -> bool:
    """Whether a file holds arrays whose bytes are those that were written, and nothing else.

    Raises OSError where it cannot be read.
    """
    try:
        with path.open("rb") as file:
            size = os.fstat(file.fileno()).st_size
            while file.tell() < size:
                array, said = _next(file)
                if _hash_of(array) != said:
                    return False
    except ValueError:
        return False
    return True


def read_arrays(path: Path, count: int) -> list[np.ndarray]:
    """Some arrays that were written one after another.

    Raises OSError where there is no such file, ValueError for one that holds something else.
    """
    with path.open("rb") as file:
        return [_next(file)[0] for _ in range(count)]


def _next(file: BinaryIO) -> tuple[np.ndarray, str]:
    """The next array, and the hash that is said of it."""
    dtype, shape, said = _head_of(file)
    count = math.prod(shape)
    if os.fstat(file.fileno()).st_size < file.tell() + count * dtype.itemsize:
        raise ValueError("it is cut short")
    return np.fromfile(file, dtype, count).reshape(shape), said


def map_array(path: Path) -> np.ndarray:
    """An array that stays in its file, to be read from.

    Raises OSError where there is no such file, ValueError for one that holds something else.
    """
    with path.open("rb") as file:
        dtype, shape, _ = _head_of(file)
    if 0 in shape:
        return np.empty(shape, dtype)
    return np.memmap(path, dtype, "r", HEAD, shape)


def _head_of(file: BinaryIO) -> tuple[np.dtype, tuple[int, ...], str]:
    """The type and the shape of an array, and its hash; numbers alone are taken."""
    head = json.loads(file.read(HEAD))
    try:
        dtype, shape = np.dtype(str(head["type"])), tuple(int(n) for n in head["shape"])
    except (KeyError, TypeError) as error:
        raise ValueError("no array") from error
    if dtype.hasobject or any(n < 0 for n in shape):
        raise ValueError(f"no array of numbers: {head}")
    return dtype, shape, str(head.get("hash"))
