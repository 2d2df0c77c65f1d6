"""Compiled pieces of the simulation around the physics. Keep this file quiet, as with dynamics."""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.kernels import kernel


@kernel(entry=True, makes_arrays=True)
def first_order_noise(decay, strength, white, out):
    """White noise (T,) through a first-order filter, out[k] = decay out[k-1] + strength white[k], from its steady state.

    With `strength`^2 = 1 - `decay`^2 every sample, the first one too, has variance 1.
    """
    state = white[0]
    out[0] = state
    for k in range(1, white.shape[0]):
        state = decay * state + strength * white[k]
        out[k] = state


@kernel(entry=True, makes_arrays=True)
def second_order_noise(decay, strength, white, start, out):
    """White noise (T,) through the second-order filter of gusts across the wind (Dryden), from its steady state.

    The form (1 + sqrt(3) T s) / (1 + T s)^2 of MIL-F-8785C as sqrt(3) H1 + (1 - sqrt(3)) H1^2, H1 a first-order filter. With
    first-order noise of variance 1 (`strength`^2 = 1 - `decay`^2) it has variance 1: the variances and the covariance of
    both parts follow from their recursions. `start` is one more normal number, for the state that it begins in.
    """
    root = math.sqrt(3.0)
    both = 1.0 / (1.0 + decay)
    variance = (1.0 + decay * decay) * both * both
    scale = 1.0 / math.sqrt(3.0 + 2.0 * root * (1.0 - root) * both + (1.0 - root) ** 2 * variance)
    first = white[0]
    second = both * first + math.sqrt(variance - both * both) * start
    out[0] = scale * (root * first + (1.0 - root) * second)
    for k in range(1, white.shape[0]):
        first = decay * first + strength * white[k]
        second = decay * second + (1.0 - decay) * first
        out[k] = scale * (root * first + (1.0 - root) * second)


@kernel(entry=True, makes_arrays=True)
def weather(copies, wind, age, along, speed, direction, level, tide, sample_time, winds, currents, levels, times):
    """Wind and current (B, 3) (m/s), water level (m) and time (s) of `copies` (k,) at their present sample.

    `wind` (B, T + 1, 1 or 3) blows along the direction `along` (3), across it and upwards; `speed`, `direction` and `level` (B,) are of the water,
    whose current turns with a tide of so many seconds (0: none).
    """
    gusty = wind.shape[2] > 1
    for c in copies:
        now = wind[c, min(age[c], wind.shape[1] - 1)]
        across = now[1] if gusty else 0.0
        winds[c, 0], winds[c, 1] = now[0] * along[0] - across * along[1], now[0] * along[1] + across * along[0]
        winds[c, 2] = now[0] * along[2] + (now[2] if gusty else 0.0)
        time = age[c] * sample_time
        flow = speed[c] * math.cos(2.0 * math.pi * time / tide) if tide > 0.0 else speed[c]
        currents[c, 0], currents[c, 1] = flow * math.cos(direction[c]), flow * math.sin(direction[c])
        levels[c] = level[c]
        times[c] = time


@kernel(entry=True, rounding=())
def judge(
    position, velocity, absurd, results, first_term, first_ending, at_measure, weights, given_at, holds, failure, settle, time_is_up, refused,
    running, held, settled, terms, reward, ending, success, finite,
):  # fmt: skip
    """What the formulas `results` (numbers, B) of one sample say of each copy; see `Batch.step`.

    Rewards stand in the rows from `first_term` on, endings from `first_ending` on, the measure in `at_measure`. `given_at` (terms,) is the number
    of the ending at which a term is given, or -1; `holds` (endings,) and `settle` are in samples. `time_is_up`, `refused`, `running` (B,) bool. Counts
    `held` (B, endings) and `settled` (B,) go on from what they were; `terms` (terms, B), `reward`, `ending` (-1: goes on, -2: time limit), `success`
    and `finite` (B,) are written.
    """
    last = len(holds)
    for c in range(len(running)):
        fine = not refused[c]
        for k in range(position.shape[1]):
            fine &= math.isfinite(position[c, k])
        for k in range(velocity.shape[1]):
            fine &= abs(velocity[c, k]) < absurd  # no number is below it either
        for k in range(results.shape[0]):
            fine &= math.isfinite(results[k, c])
        finite[c] = fine
        over = -2 if time_is_up[c] else -1
        for number in range(last - 1, -1, -1):
            held[c, number] = held[c, number] + 1 if results[first_ending + number, c] != 0.0 else 0
            if held[c, number] > holds[number]:
                over = number
        if not fine:
            over = last
        if not running[c]:
            over = -1
        ending[c] = over
        settled[c] = settled[c] + 1 if fine and results[at_measure, c] != 0.0 else 0
        success[c] = settled[c] >= settle and not (over >= 0 and failure[over])
        total = 0.0
        for k in range(len(weights)):
            term = 0.0
            if fine and running[c]:
                term = results[first_term + k, c] * weights[k]
                if given_at[k] >= 0:
                    term *= 1.0 if over == given_at[k] else 0.0
            terms[k, c] = term
            total += term
        reward[c] = total


@kernel(entry=True, makes_arrays=True)
def _hash(x):
    """A well-mixed 64-bit number (S. Vigna's finaliser of splitmix64, 2015)."""
    x = (x + np.uint64(0x9E3779B97F4A7C15)) & np.uint64(0xFFFFFFFFFFFFFFFF)
    x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return x ^ (x >> np.uint64(31))


@kernel(entry=True, makes_arrays=True)
def instrument_errors(copies, clean, keys, age, every, noise, bias, step, held):
    """Readings of `copies` (k,) with their errors, into `held` (B, C), for those channels whose reading is due.

    `clean` (B, C); `keys` (B) name the episodes; `age` (B) counts samples; `every`, `noise`, `bias`, `step` (C) are the
    samples between readings, standard deviations of noise and of the offset of an episode, and quantisation. Normal
    numbers come from a hash of episode, sample and channel (Box and Muller, 1958): nothing has to be stored.
    """
    one = np.uint64(1)
    for c in copies:
        for k in range(clean.shape[1]):
            if age[c] % every[k] != 0:
                continue
            value = clean[c, k]
            for part in range(2):
                size = noise[k] if part == 0 else bias[k]
                if size > 0.0:
                    count = np.uint64(age[c]) * np.uint64(2) + one if part == 0 else np.uint64(0)
                    a = _hash(keys[c] ^ _hash(count * np.uint64(4096) + np.uint64(k)))
                    b = _hash(a)
                    u = (np.float64(a >> np.uint64(11)) + 0.5) * (1.0 / 9007199254740992.0)
                    v = np.float64(b >> np.uint64(11)) * (1.0 / 9007199254740992.0)
                    value += size * math.sqrt(-2.0 * math.log(u)) * math.cos(2.0 * math.pi * v)
            if step[k] > 0.0:
                value = step[k] * math.floor(value / step[k] + 0.5)
            held[c, k] = value
