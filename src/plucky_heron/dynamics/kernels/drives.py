"""Drives, stops and couplings: from commands to joint efforts.

Dampers, springs and servos are linearised implicitly in the semi-implicit step: what they add to the mass matrix
keeps stiff drives stable at any step.
"""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.layout import (
    BACKLASH,
    COUPLING,
    COUPLING_OFFSET,
    COUPLING_RATIO,
    DEAD_ZONE,
    DRAIN,
    DRIVE,
    DRY_FRICTION,
    EFFORT,
    GAIN,
    HIGHEST_COMMAND,
    INTEGRAL_GAIN,
    JOINT_DAMPING,
    JOINT_REST,
    JOINT_STIFFNESS,
    LIMIT,
    LOWER_STOP,
    LOWEST_COMMAND,
    NO_LOAD_SPEED,
    NODE,
    POSITION,
    RATE_GAIN,
    RATE_LIMIT,
    RATIO,
    SPEED,
    STOP_DAMPING,
    STOP_STIFFNESS,
    THRUST,
    UPPER_STOP,
)
from plucky_heron.kernels import kernel

COUPLING_WEIGHT = 1e7
"""How much heavier than the joints themselves a coupling's constraint weighs; its error is one part in this."""


@kernel(inline=True)
def drive_step(
    n, drives, kinds, joints, delays, row, q, v, command, lagged, integral, limited, played, ring, head, h, follow
):
    """Dead time, dead zone, rate limit, first-order lag (exact for a held command), backlash, the servo's integral."""
    for a in range(drives):
        b = n * NODE + a * DRIVE
        given = min(max(command[a], row[b + LOWEST_COMMAND]), row[b + HIGHEST_COMMAND])
        delay = delays[a]
        if delay > 0:
            slot = head % delay
            late = ring[a, slot]
            ring[a, slot] = given
            given = late
        dead = row[b + DEAD_ZONE]
        if dead > 0.0:
            given = 0.0 if abs(given) <= dead else given - math.copysign(dead, given)
        rate = row[b + RATE_LIMIT]
        if rate > 0.0:
            most = rate * h
            given = limited[a] + min(max(given - limited[a], -most), most)
            limited[a] = given
        lagged[a] += (given - lagged[a]) * follow[a]
        play = 0.5 * row[b + BACKLASH]
        if play > 0.0:
            # the driven side rests until the driving side has crossed the gap
            played[a] = min(max(played[a], lagged[a] - play), lagged[a] + play)
        else:
            played[a] = lagged[a]
        if row[b + INTEGRAL_GAIN] > 0.0:
            kind = kinds[a]
            i = joints[a]
            error = played[a] - (v[i] if kind == SPEED else q[i])
            moved = integral[a] + h * error
            if abs(row[b + GAIN] * error + row[b + INTEGRAL_GAIN] * moved) < row[b + LIMIT]:
                integral[a] = moved


@kernel(inline=True)
def highest_effort(row, b, speed):
    """What a drive can put out at a speed: its limit, falling along the torque-speed line to nothing."""
    limit = row[b + LIMIT]
    top = row[b + NO_LOAD_SPEED]
    if top > 0.0:
        limit *= min(max(1.0 - speed / top, 0.0), 1.0)
    return limit


@kernel(inline=True)
def efforts_of_joints(n, drives, kinds, joints, row, q, v, played, integral, h, effort, stiff, dry):
    """Joint efforts of springs, dampers and drives.

    `stiff` (n) takes what the implicit step adds to the mass, `dry` (n) the most that dry friction and brakes hold.
    With h = 0 everything is explicit and `stiff` stays zero (Runge-Kutta).
    """
    for i in range(n):
        b = i * NODE
        damping = row[b + JOINT_DAMPING]
        stiffness = row[b + JOINT_STIFFNESS]
        effort[i] = -damping * v[i]
        stiff[i] = h * damping
        if stiffness > 0.0:
            effort[i] -= stiffness * (q[i] + h * v[i] - row[b + JOINT_REST])
            stiff[i] += h * h * stiffness
        dry[i] = row[b + DRY_FRICTION]
    for a in range(drives):
        kind = kinds[a]
        if kind == THRUST or kind == DRAIN:
            continue
        b = n * NODE + a * DRIVE
        i = joints[a]
        if kind == EFFORT:
            force, extra = played[a], 0.0
        elif kind == SPEED:
            force = row[b + GAIN] * (played[a] - v[i]) + row[b + INTEGRAL_GAIN] * integral[a]
            extra = h * row[b + GAIN]
        elif kind == POSITION:
            force = (
                row[b + GAIN] * (played[a] - q[i] - h * v[i])
                - row[b + RATE_GAIN] * v[i]
                + row[b + INTEGRAL_GAIN] * integral[a]
            )
            extra = h * row[b + RATE_GAIN] + h * h * row[b + GAIN]
        else:
            dry[i] += abs(played[a])
            continue
        high = highest_effort(row, b, v[i])
        low = -highest_effort(row, b, -v[i])
        if low < force < high:
            stiff[i] += extra
            effort[i] += force
        else:
            effort[i] += min(max(force, low), high)


@kernel
def stop_efforts(n, row, q, v, dry, effort):
    """Joint stops as springs and dampers, dry friction as a steep slope, explicit: for Runge-Kutta, without impulses."""
    for i in range(n):
        if dry[i] > 0.0:
            effort[i] -= dry[i] * math.tanh(v[i] / 1e-3)
        b = i * NODE
        over = 0.0
        if q[i] > row[b + UPPER_STOP]:
            over = q[i] - row[b + UPPER_STOP]
        elif q[i] < row[b + LOWER_STOP]:
            over = q[i] - row[b + LOWER_STOP]
        if over != 0.0:
            push = -row[b + STOP_STIFFNESS] * over - row[b + STOP_DAMPING] * v[i]
            # a stop pushes, it never pulls back what is already leaving
            if push * over < 0.0:
                effort[i] += push


@kernel
def couple(couplings, first, kinds, dependents, leaders, row, q, v, h, explicit, mass, right):
    """Add couplings to the equations of motion as very heavy constraint rows on the accelerations.

    Ratio: dependent = ratio * leader + offset. Steering: the wheel at a distance to the left of the middle stands on
    the circle about the same centre as the middle wheel (Ackermann). `explicit`: for Runge-Kutta, whose stages need a
    smooth correction of the drift instead of one step's.
    """
    for c in range(couplings):
        b = first + c * COUPLING
        d, i = dependents[c], leaders[c]
        if kinds[c] == RATIO:
            slope = row[b + COUPLING_RATIO]
            wanted = slope * q[i] + row[b + COUPLING_OFFSET]
        else:
            wheelbase, left = row[b + COUPLING_RATIO], row[b + COUPLING_OFFSET]
            s, co = math.sin(q[i]), math.cos(q[i])
            across = wheelbase * co - left * s
            wanted = math.atan2(wheelbase * s, across)
            slope = wheelbase * wheelbase / (across * across + wheelbase * wheelbase * s * s)
        error = q[d] - wanted
        rate = v[d] - slope * v[i]
        if explicit:
            pull = 0.1 / h
            target = -2.0 * pull * rate - pull * pull * error
        else:
            target = -(rate + 0.2 * error / h) / h
        weight = COUPLING_WEIGHT * (mass[d, d] + slope * slope * mass[i, i])
        mass[d, d] += weight
        mass[i, i] += weight * slope * slope
        if d > i:
            mass[d, i] -= weight * slope
        else:
            mass[i, d] -= weight * slope
        right[d] += weight * target
        right[i] -= weight * slope * target
