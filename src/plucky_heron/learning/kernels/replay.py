"""Compiled pieces of the replay buffer. Keep this file quiet, as with dynamics."""

from __future__ import annotations

from plucky_heron.kernels import kernel


@kernel(entry=True, makes_arrays=True)
def gather(
    observations, after, commands, reward, over, indices, copies, last, steps, discount, out_observations, out_after, out_commands,
    out_reward, out_factor,
):  # fmt: skip
    """Copy the drawn entries, and sum rewards over up to `steps` steps, not beyond an episode's end nor the newest row.

    `over` is 0 where the episode went on, 1 after an ending, 2 where time cut it; `last` is where the newest row begins.
    """
    capacity = observations.shape[0]
    for i in range(indices.shape[0]):
        here = indices[i]
        for j in range(observations.shape[1]):
            out_observations[i, j] = observations[here, j]
        for j in range(commands.shape[1]):
            out_commands[i, j] = commands[here, j]
        total = 0.0
        factor = 1.0
        for k in range(steps):
            total += factor * reward[here]
            factor *= discount
            if over[here] != 0 or k == steps - 1 or (here >= last and here < last + copies):
                break
            here = (here + copies) % capacity
        for j in range(after.shape[1]):
            out_after[i, j] = after[here, j]
        out_reward[i] = total
        out_factor[i] = 0.0 if over[here] == 1 else factor


@kernel(entry=True, makes_arrays=True, rounding=())
def reflect(rows, chances, share, place, sign):
    """Rows whose chance lies under `share` in the mirror, in place: number j becomes sign[j] times number place[j]."""
    wide = rows.shape[1]
    kept = rows[0].copy()
    for i in range(rows.shape[0]):
        if chances[i] < share:
            for j in range(wide):
                kept[j] = rows[i, j]
            for j in range(wide):
                rows[i, j] = sign[j] * kept[place[j]]


@kernel(entry=True, makes_arrays=True, rounding=())
def set_priorities(tree, indices, values):
    """Write leaves of a sum tree and mend the sums above; node k has the children 2 k and 2 k + 1, the root is 1."""
    leaves = tree.shape[0] // 2
    for i in range(indices.shape[0]):
        node = leaves + indices[i]
        tree[node] = values[i]
        node //= 2
        while node >= 1:
            tree[node] = tree[2 * node] + tree[2 * node + 1]
            node //= 2


@kernel(entry=True, makes_arrays=True, rounding=())
def draw_by_priority(tree, shares, indices, size):
    """Entries whose stretch of the total holds evenly spread shares (Schaul et al. 2016, appendix B.2.1)."""
    leaves = tree.shape[0] // 2
    count = indices.shape[0]
    for i in range(count):
        wanted = (i + shares[i]) / count * tree[1]
        node = 1
        while node < leaves:
            node *= 2
            if wanted >= tree[node] and tree[node + 1] > 0.0:
                wanted -= tree[node]
                node += 1
        indices[i] = min(node - leaves, size - 1)


@kernel(entry=True, makes_arrays=True, rounding=())
def realised(reward, over, predicted, newest, copies, rows, discount, tail):
    """Sums of predictions and of discounted returns over the episode that ends with entry `newest`, and its length."""
    capacity = reward.shape[0]
    here = newest
    come = tail
    said = 0.0
    total = 0.0
    count = 0
    while count < rows:
        come = reward[here] + discount * come
        said += predicted[here]
        total += come
        count += 1
        here = (here - copies) % capacity
        if over[here] != 0:
            break
    return said, total, count
