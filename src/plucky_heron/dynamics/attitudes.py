"""Positions in minimal coordinates: attitudes as small turns about the axes that their rates have."""

from __future__ import annotations

import numpy as np

from plucky_heron.dynamics.model import Model

Array = np.ndarray


def differences(model: Model, position: Array, reference: Array) -> Array:
    """Position (B, entries) less a reference (B or 1, entries) in minimal coordinates (B, n); attitudes as small turns."""
    n = len(model.joints)
    found: Array = (position - reference)[:, :n].copy()
    for _, entries in model.attitudes():
        x, r = position[:, entries], reference[:, entries]
        turn = r[:, 3:] * x[:, :3] - x[:, 3:] * r[:, :3] - np.cross(r[:, :3], x[:, :3])
        scalar = (x * r).sum(axis=1, keepdims=True)
        found[:, entries[:3]] = 2.0 * np.where(scalar < 0.0, -1.0, 1.0) * turn
    return found


def displaced(model: Model, reference: Array, change: Array) -> Array:
    """Positions (..., entries) that differ from references by `change` (..., n)."""
    n = len(model.joints)
    shape = np.broadcast_shapes(reference.shape[:-1], change.shape[:-1])
    found: Array = np.array(np.broadcast_to(reference, (*shape, reference.shape[-1])))
    found[..., :n] += change
    for _, entries in model.attitudes():
        turn, r = change[..., entries[:3]], reference[..., entries]
        half = 0.5 * np.linalg.norm(turn, axis=-1, keepdims=True)
        e, s = 0.5 * turn * np.sinc(half / np.pi), np.cos(half)
        vector = r[..., 3:] * e + s * r[..., :3] + np.cross(r[..., :3], e)
        scalar = r[..., 3:] * s - (r[..., :3] * e).sum(axis=-1, keepdims=True)
        found[..., entries] = np.concatenate([vector, scalar], axis=-1)
    return found


def ways(model: Model, position: Array) -> Array:
    """How far each coordinate (T, n) has come since the first of these positions (T, entries), turns added up; their slopes are the speeds."""
    found: Array = position[:, : len(model.joints)].copy()
    for _, entries in model.attitudes():
        turns = differences(model, position[1:], position[:-1])[:, entries[:3]]
        found[0, entries[:3]] = 0.0
        found[1:, entries[:3]] = np.cumsum(turns, axis=0)
    return found
