"""Drives, stops and couplings: from commands to joint efforts.

Dampers, springs and servos act in the middle of the step, which is of second order and damps nothing by itself, as long
as the step is short for them. Where it is not, they fade to the backward Euler step by `implicit_shares`: what they add
to the mass matrix keeps stiff drives stable at any step.
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
    LOOSENESS,
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
    n,
    drives,
    kinds,
    joints,
    delays,
    shares,
    row,
    q,
    v,
    command,
    lagged,
    integral,
    limited,
    played,
    ring,
    head,
    h,
    follow,
):
    """Dead time, dead zone, rate limit, first-order lag (exact for a held command), backlash, the servo's integral."""
    for a in range(drives):
        b = n * NODE + a * DRIVE
        given = min(max(command[a], row[b + LOWEST_COMMAND]), row[b + HIGHEST_COMMAND])
        delay = delays[a]
        if delay > 0:
            slot = head % delay
            late = ring[a, slot]
            if shares[a] < 1.0:
                after = ring[a, (head + 1) % delay] if delay > 1 else given
                late = shares[a] * late + (1.0 - shares[a]) * after
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
def implicit_shares(stiffness, damping, looseness, h):
    """How much of a spring and of a damper is taken at the end of the step: 0 and 1/2 where it is short, 1 where it is not.

    h² k / m is the square of the turn of an oscillation in a step, of which the step in the middle stands 4 before it
    runs away; the shares grow from 0.4 on, because the looseness is that of the start pose and of one coordinate alone.
    """
    spring = min(max(h * h * stiffness * looseness - 0.4, 0.0), 1.0)
    damper = min(max((h * damping * looseness - 0.3) / 0.7, 0.0), 1.0)
    return spring, 0.5 + 0.5 * max(spring, damper)


@kernel(inline=True)
def _servo(row, b, kind, looseness, q, v, command, integral, h):
    """Effort of a servo at its present place and speed, and what its share of the step's end adds to the mass."""
    if kind == SPEED:
        force = row[b + GAIN] * (command - v) + row[b + INTEGRAL_GAIN] * integral
        return force, implicit_shares(0.0, row[b + GAIN], looseness, h)[1] * h * row[b + GAIN]
    late, later = implicit_shares(row[b + GAIN], row[b + RATE_GAIN], looseness, h)
    force = row[b + GAIN] * (command - q - late * h * v) - row[b + RATE_GAIN] * v + row[b + INTEGRAL_GAIN] * integral
    return force, later * h * row[b + RATE_GAIN] + late * h * h * row[b + GAIN]


@kernel(inline=True)
def efforts_of_joints(n, drives, kinds, joints, row, q, v, played, integral, h, full, effort, stiff, dry):
    """Joint efforts of springs, dampers and drives.

    `stiff` (n) takes what the implicit step adds to the mass, `dry` (n) the most that dry friction and brakes hold.
    `full` (m) says which drives are at their limit whatever their servo asks for. With h = 0 everything is explicit and `stiff` stays zero (Runge-Kutta).
    """
    for i in range(n):
        b = i * NODE
        damping = row[b + JOINT_DAMPING]
        stiffness = row[b + JOINT_STIFFNESS]
        effort[i] = -damping * v[i]
        stiff[i] = 0.0
        if damping > 0.0 or stiffness > 0.0:
            late, later = implicit_shares(stiffness, damping, row[b + LOOSENESS], h)
            effort[i] -= stiffness * (q[i] + late * h * v[i] - row[b + JOINT_REST])
            stiff[i] = later * h * damping + late * h * h * stiffness
        dry[i] = row[b + DRY_FRICTION]
    for a in range(drives):
        kind = kinds[a]
        if kind == THRUST or kind == DRAIN:
            continue
        b = n * NODE + a * DRIVE
        i = joints[a]
        if kind == EFFORT:
            force, extra = played[a], 0.0
        elif kind == SPEED or kind == POSITION:
            force, extra = _servo(row, b, kind, row[i * NODE + LOOSENESS], q[i], v[i], played[a], integral[a], h)
        else:
            dry[i] += abs(played[a])
            continue
        high = highest_effort(row, b, v[i])
        low = -highest_effort(row, b, -v[i])
        if full[a] != 0.0:
            effort[i] += high if full[a] > 0.0 else low
        elif low < force < high:
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


@kernel
def driven_beyond(n, drives, kinds, joints, row, q, v, played, integral, h, acceleration, full):
    """Mark in `full` (m) the servos that would give more than their limit at these accelerations; whether there are any.

    What they give in the step is what they would at its start, less what `efforts_of_joints` adds to the mass matrix
    for them times the acceleration.
    """
    any_ = False
    for a in range(drives):
        kind = kinds[a]
        if (kind != SPEED and kind != POSITION) or full[a] != 0.0:
            continue
        b = n * NODE + a * DRIVE
        i = joints[a]
        high, low = highest_effort(row, b, v[i]), -highest_effort(row, b, -v[i])
        force, extra = _servo(row, b, kind, row[i * NODE + LOOSENESS], q[i], v[i], played[a], integral[a], h)
        if low < force < high:
            force -= extra * acceleration[i]
            slack = 1e-3 * row[b + LIMIT]
            if force > high + slack or force < low - slack:
                full[a] = 1.0 if force > high else -1.0
                any_ = True
    return any_
