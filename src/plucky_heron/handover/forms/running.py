"""The ONNX form at work, inside the program."""

from __future__ import annotations

import numpy as np

Array = np.ndarray


class OnnxPolicy:
    """An ONNX form at work; what it remembers is the caller's."""

    def __init__(self, model: bytes | str) -> None:
        import onnxruntime

        options = onnxruntime.SessionOptions()
        options.intra_op_num_threads = 1
        self.session = onnxruntime.InferenceSession(model, options, providers=["CPUExecutionProvider"])
        shapes = {given.name: given.shape for given in self.session.get_inputs()}
        self.given, self.memory = int(shapes["sensors"][1]), int(shapes.get("memory", [0, 0])[1])

    def blank(self, copies: int) -> Array:
        """What is remembered where an episode begins."""
        return np.zeros((copies, self.memory), dtype=np.float32)

    def step(self, observations: Array, state: Array) -> tuple[Array, Array]:
        """Commands (batch, actions), and what is remembered after them."""
        given = {"sensors": observations[:, : self.given].astype(np.float32)}
        found = self.session.run(None, given | ({"memory": state} if self.memory else {}))
        return np.asarray(found[0]), np.array(found[1]) if self.memory else state


def run_onnx(model: bytes | str, vectors: Array, first: Array | None = None) -> Array:
    """Commands (N, commands) of the ONNX model at `vectors` (N, observations); `first` (N,) says where an episode begins."""
    policy = OnnxPolicy(model)
    if first is None:
        return policy.step(vectors, policy.blank(len(vectors)))[0]
    state, rows = policy.blank(1), []
    for row, begins in zip(vectors, first, strict=True):
        commands, state = policy.step(row[None], policy.blank(1) if begins else state)
        rows.append(commands)
    return np.concatenate(rows)
