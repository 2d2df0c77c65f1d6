"""Named streams of random numbers, split from one seed, so that no part of a run disturbs another.

Episodes draw from a counter-based generator keyed by (seed, stream, episode number): any episode can be made
again alone, and a resumed run needs to remember no more than the numbers of its episodes.
"""

from __future__ import annotations

import functools
import json
import zlib

import numpy as np


def stream(seed: int, name: str) -> np.random.Generator:
    """The generator of the stream `name` of `seed`."""
    return np.random.Generator(np.random.PCG64(np.random.SeedSequence([seed, zlib.crc32(name.encode())])))


def episode_stream(seed: int, name: str, episode: int) -> np.random.Generator:
    """The generator of one episode: independent of all others, the same whenever it is asked for."""
    return np.random.Generator(np.random.Philox(key=_key(seed, name), counter=[0, 0, 0, episode]))


@functools.lru_cache(maxsize=256)
def _key(seed: int, name: str) -> np.ndarray:
    return np.random.SeedSequence([seed, zlib.crc32(name.encode())]).generate_state(2, np.uint64)


def freeze(generator: np.random.Generator) -> np.ndarray:
    """The generator's state as bytes (uint8, one axis), to be kept in a checkpoint."""
    text = json.dumps(generator.bit_generator.state)
    return np.frombuffer(text.encode(), dtype=np.uint8)


def thaw(generator: np.random.Generator, state: np.ndarray) -> None:
    """Set `generator` to a state kept by `freeze`."""
    generator.bit_generator.state = json.loads(state.tobytes().decode())
