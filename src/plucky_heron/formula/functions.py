"""The functions of the formula language: fewest and most arguments, and what they give."""

from __future__ import annotations

FUNCTIONS: dict[str, tuple[int, int, str]] = {
    "abs": (1, 1, "size without sign"),
    "sqrt": (1, 1, "square root"),
    "exp": (1, 1, "e to the power"),
    "log": (1, 1, "natural logarithm"),
    "sin": (1, 1, "sine of an angle"),
    "cos": (1, 1, "cosine of an angle"),
    "tan": (1, 1, "tangent of an angle"),
    "atan2": (2, 2, "angle of the point (x, y), written atan2(y, x)"),
    "tanh": (1, 1, "hyperbolic tangent: soft limit at ±1"),
    "sign": (1, 1, "-1, 0 or 1"),
    "min": (1, 8, "the smallest of some values, or of a list"),
    "max": (1, 8, "the largest of some values, or of a list"),
    "sum": (1, 1, "sum of a list"),
    "mean": (1, 1, "mean of a list"),
    "clip": (3, 3, "clip(x, low, high): x kept between low and high"),
    "near": (2, 2, "near(x, width): 1 at x = 0, falling as exp(-(x/width)**2)"),
    "inside": (3, 3, "inside(x, low, high): 1 while low <= x <= high, else 0"),
    "wrap": (1, 1, "an angle brought into -pi .. pi"),
    "norm": (1, 8, "root of the sum of squares of some values, or of a list"),
    "where": (3, 3, "where(condition, a, b): a while the condition holds, else b"),
    "previous": (1, 1, "the value one sample ago; at the start, the value there"),
    "rate": (1, 1, "change a second since the last sample (an angle: the short way round); 0 at the start"),
    "highest": (1, 1, "the highest value of the episode so far"),
    "lowest": (1, 1, "the lowest value of the episode so far"),
    "total": (1, 1, "sum over the samples since the start"),
    "integral": (1, 1, "sum over the samples since the start, times the sample time"),
    "becomes": (1, 1, "1 in the sample in which a condition begins to hold"),
    "since": (1, 1, "seconds since a condition last held, or since the start"),
    "low_pass": (2, 2, "low_pass(x, time): x through a first-order lag; at the start, the value there"),
    "median": (1, 1, "the middle one of this sample's value and the two before: single outliers are gone"),
    "complementary": (
        3,
        3,
        "complementary(angle, rate, time): the rate summed up, drawn to the angle within the time: attitude of an inertial unit",
    ),
    "clearance": (2, 2, "clearance(a, b): distance of body a from body, solid or zone b; below 0 while they overlap"),
    "overlap": (2, 2, "overlap(a, b): 1 while body a and body, solid or zone b overlap"),
}
ESTIMATORS = ("low_pass", "median", "complementary")
"""What makes an estimate of readings, in the simulation as on a controller."""
MEMORY = ("previous", "rate", "highest", "lowest", "total", "integral", "becomes", "since", *ESTIMATORS)
"""Functions that remember: what they give depends on earlier samples of the episode."""
