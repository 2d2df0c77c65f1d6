"""What stands where in the arrays that the kernels read.

Spatial vectors are (angular, linear), in world axes about the world origin, so that velocities, inertias and forces of
different bodies are simply added (R. Featherstone, Rigid Body Dynamics Algorithms, 2008, chapter 2).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

Array = np.ndarray


# --- what a step works out a node: a row of `Scratch.w`, by the names that follow ------------------------------------
WORK = 62
"""Numbers a node; its attitude, a rotation matrix row by row, stands in 0 to 8 without a name."""
ORIGIN, AXIS, TWIST, CARRIED, LOAD = 9, 12, 18, 24, 30
"""Place of the origin (3, m); joint axis and velocity of the body (6 each: angular, linear at the world's origin);
acceleration with the joints unaccelerated and gravity upwards (6); force that it takes, with what hangs on it (6)."""
HELD_MASS, HELD_MOMENT, HELD_INERTIA = 36, 37, 40
"""Mass, first moment (3), inertia about the world's origin xx yy zz xy xz yz (6), with what hangs on the node."""
OWN = 46
"""The same ten numbers without what hangs on it."""
MEAN = 56
"""Velocity of the body in the middle of the step (6), at which the velocity terms are taken."""

# --- one row of numbers a copy: nodes, drives, forces, couplings, tail ------------------------------------------------
# What has several numbers is named by its first one.
NODE = 25
"""Numbers a node, by the names that follow."""
MASS, MOMENT, INERTIA = 0, 1, 4
"""Mass, first moment (3), inertia about the node's origin xx yy zz xy xz yz (6)."""
JOINT_DAMPING, JOINT_STIFFNESS, JOINT_REST, LOWER_STOP, UPPER_STOP, STOP_STIFFNESS, STOP_DAMPING = (
    10,
    11,
    12,
    13,
    14,
    15,
    16,
)
ARMATURE, DRAG_AREA, DRAG_POINT, DRY_FRICTION, LOOSENESS, GEARED = 17, 18, 19, 22, 23, 24
"""The point has three; looseness is how easily an effort moves the coordinate, at most (1/kg, 1/(kg m²)); geared is how much the
rotor of a hinge turns with its carrier, for each turn with the joint: one over the gear ratio, 0 where it is not known where it turns."""
DRIVE = 20
"""Numbers a drive, by the names that follow; a no-load speed or a rate limit of 0 stands for none."""
LIMIT, GAIN, INTEGRAL_GAIN, LAG, HIGHEST_COMMAND, RATE_GAIN, NO_LOAD_SPEED, RATE_LIMIT, DEAD_ZONE, BACKLASH = range(10)
PLACE, DIRECTION, REACTION, CONSUMPTION, LOWEST_COMMAND, COMMAND_GAIN = 10, 13, 16, 17, 18, 19
"""Place (3), direction (3), reaction torque a newton, mass used a newton second, gain of the command at the joint."""
FORCE = 32
"""Numbers a force, by its kind."""
SPRING_A, SPRING_B, SPRING_STIFFNESS, SPRING_REST, SPRING_DAMPING, SPRING_PULLS_ONLY = 0, 3, 6, 7, 8, 9
"""Points on both bodies (3 each), N/m, rest length, N s/m, whether it only pulls."""
TIE_A, TIE_B, TIE_LENGTH = 0, 3, 6
"""Points on both bodies (3 each), length (of a rod)."""
TYRE_CENTRE, TYRE_AXIS, TYRE_RADIUS, TYRE_STIFFNESS, TYRE_RELAXATION, TYRE_FRICTION, TYRE_LOAD = 0, 3, 6, 7, 9, 10, 12
TYRE_RADIAL_STIFFNESS, TYRE_RADIAL_DAMPING, TYRE_ROLLING_RESISTANCE, TYRE_ROLLS_FREELY = 13, 14, 15, 16
"""Stiffness (N a unit of slip) and friction along, then across; a radial stiffness of 0 stands for a fixed load."""
HULL_PLACE, HULL_AXES, HULL_ADDED_MASS, HULL_ADDED_INERTIA, HULL_DAMPING, HULL_SQUARE = 0, 3, 12, 15, 18, 24
"""Place (3), axes (9, row by row), added mass and inertia (3 each), linear and quadratic damping (6 each, forces first)."""
FLOAT_BOTTOM, FLOAT_AREA, FLOAT_HEIGHT, FLOAT_LENGTH, FLOAT_WIDTH, FLOAT_AXES = 0, 3, 4, 5, 6, 7
"""Bottom centre (3), section, height, the section's two sides, axes (9, row by row)."""
WING_PLACE, WING_CHORD, WING_NORMAL, WING_AREA, WING_LIFT_SLOPE, WING_STALL, WING_DRAG = 0, 3, 6, 9, 10, 11, 12
WING_INDUCED, WING_IN_WATER = 13, 14
"""Place, chord forward and normal (3 each), area, lift slope, stall angle, drag at zero lift, induced drag factor."""
COUPLING = 4
"""Numbers a coupling, two of them spare."""
COUPLING_RATIO, COUPLING_OFFSET = 0, 1
"""Of a steered wheel: wheelbase, and its distance to the left."""
TAIL = 5
"""Numbers at the end of a row, by the names that follow."""
GRAVITY, AIR_DENSITY, WATER_DENSITY = 0, 3, 4
TANK = 8
"""Numbers a tank (a row of `Forces.tanks`), by the names that follow."""
TANK_BOTTOM, TANK_LENGTH, TANK_WIDTH, TANK_HEIGHT, TANK_FULL, TANK_START = 0, 3, 4, 5, 6, 7
"""Centre of the bottom (3), length, width, height when full, mass when full, mass at the start."""

HINGE, SLIDER, BALL_X, BALL_Y, BALL_Z = 0, 1, 2, 3, 4
EFFORT, SPEED, POSITION, THRUST, BRAKE, DRAIN = 0, 1, 2, 3, 4, 5
SPRING, TYRE, HULL, FLOAT, WING, ROD, PIN = 0, 1, 2, 3, 4, 5, 6
RATIO, STEERING = 0, 1
SPHERE, CAPSULE, BOX, CYLINDER, CONVEX = 0, 1, 2, 3, 4
NO_GROUND, PLANE, GRID = 0, 1, 2

CONTACT = 17
"""Numbers a remembered contact, by the names that follow; point, impulses of friction and of its moment, and normal have three."""
PAIR, CONTACT_POINT, NORMAL_IMPULSE, FRICTION_IMPULSE, SLIPPING, NORMAL, GAP, SHAPE = 0, 1, 4, 5, 8, 9, 12, 13
MOMENT_IMPULSE = 14
SURFACE = 7
"""Numbers of how two surfaces meet, by the names that follow; compliance 0 is hard, damping below 0 is chosen."""
STATIC_FRICTION, DYNAMIC_FRICTION, BOUNCE, COMPLIANCE, SURFACE_DAMPING, ROLLING, SPINNING = range(SURFACE)
FIELD = 17
"""Numbers of the surroundings of a copy, by the names that follow."""
WIND, CURRENT, WATER_LEVEL, TIME = 0, 3, 6, 7
"""m/s (3 each), m, s."""
HAND, HAND_POINT, HAND_TO, HAND_STIFFNESS, HAND_DAMPING = 8, 9, 12, 15, 16
"""A hand that pulls: node + 1 (0: none), point in the node (3), where it pulls to (3), N/m, N s/m."""


class Tree(NamedTuple):
    """The tree of nodes; one node a coordinate, three for a ball (the last one carries the body)."""

    parent: Array
    kind: Array
    base: Array
    """Node whose velocity turns the joint axis: the parent, for a ball the parent of its first node."""
    scalar: Array
    """Where the scalar part of a ball's quaternion stands in the position."""
    massless: Array
    axis: Array
    tree_rotation: Array
    tree_position: Array
    way: Array
    """Nodes that follow each on its way to the root, by which the mass matrix is factorised; unsigned, as they only index."""
    depth: Array
    """How many they are."""


class Drives(NamedTuple):
    """What is commanded."""

    kind: Array
    joint: Array
    """Node of the joint (of the body for a thruster)."""
    delay: Array
    """Steps that a command is on its way, rounded up."""
    share: Array
    """Weight of the command of that many steps ago; the rest is of one step less."""
    tank: Array
    """Tank a drain empties or a thruster burns from, or -1."""
    wet: Array
    """Whether its machine has a hull or floats: what a thruster works in."""


class Forces(NamedTuple):
    """What pushes without being commanded, tanks and couplings."""

    kind: Array
    node_a: Array
    node_b: Array
    memory: Array
    """Where its state stands in `State.slip`."""
    tank_node: Array
    tanks: Array
    coupling_kind: Array
    dependent: Array
    leader: Array
    panels: Array
    """Triangles (rows of 3 corners, node axes, turning left as seen from outside) of bodies that float by their shapes."""
    panel_range: Array
    """Of each force, which panels are its own."""


class Shapes(NamedTuple):
    """Convex shapes: a core and a rounding radius around it."""

    kind: Array
    node: Array
    size: Array
    """Core: half length of a capsule; half sizes of a box; radius and half length of a cylinder."""
    radius: Array
    reach: Array
    """Radius of the ball about the shape's place that holds it."""
    pose: Array
    """Rotation (9) and place (3) in the node, or in the world for what is fixed."""
    surface: Array
    """Static and dynamic friction, restitution, compliance (1 / stiffness), damping (below 0: by the kernel)."""
    vertices: Array
    vertex_range: Array
    faces: Array
    """Corner numbers of hull faces, one row a face, -1 behind the last."""
    face_normals: Array
    face_range: Array


class Scene(NamedTuple):
    """The sites that a batch may stand on: ground, fixed shapes, water."""

    ground_kind: Array
    plane: Array
    """Normal (3) and distance from the origin."""
    grid: Array
    """First x, first y, spacing x, spacing y, points in x, points in y, where its heights start, its greatest height, how
    flatly its steepest triangle lies (upward part of its unit normal)."""
    heights: Array
    ground_surface: Array
    shapes: Shapes
    shape_range: Array
    flow: Array
    """Direction across which the current varies (2), wave height, wave number (2), wave pulse, profile range (2)."""
    profile: Array
    """Distance across and factor of the current."""


class Contacts(NamedTuple):
    """What may touch what, and how hard the solver works."""

    pairs: Array
    touching: Array
    """Shapes that meet the site."""
    rooted: Array
    """Of those, which hang on a joint to the ground (touching,)."""
    apart: Array
    """What they do not meet for all that, where they overlap in the start pose: ground, then the site's shapes."""
    capacity: int
    iterations: int
    bounded: bool
    """Whether some joint has stops, dry friction or a brake."""


class Scratch(NamedTuple):
    """What one copy's step writes and forgets; made once a call (`step.make_scratch`), n coordinates, m drives."""

    w: Array
    mass: Array
    kept: Array
    """The mass matrix before it is factorised (fourth-order steps)."""
    vectors: Array
    """(VECTORS, n)."""
    pushes: Array
    follow: Array
    full: Array
    """Of each drive, 1 or -1 where an impact drove it to its limit in this step, else 0."""
    positions: Array
    """Start, sum and rate of the position (3, position) in a fourth-order step."""
    rows: Array
    numbers: Array
    response: Array
    """Flat: how an impulse along each row of the contact solver moves each other."""
    sides: Array
    """Speeds along the rows and impulses along them (`contact.SIDES`, rows)."""
    contacts: Array
    nodes: Array
    surfaces: Array
    """Both surfaces together, one row a contact and one to work in."""
    places: Array
    simplex: Array
    hull: Array
    points: Array
    corners: Array
    near: Array
    """Of each shape that may touch the site: how many of the site's shapes are near, and which."""
    near_about: Array
    """Of each: where it was when that was looked for, and how far it may come from there (m)."""
    row: Array
    """A row of numbers of its own, for machines whose tanks change it."""
    rays: Array
    line: Array
    turn: Array
    """Of a sensor: directions of its beams, its place on the course, its attitude."""


VECTORS = 24
MOST_RAYS = 256


class State(NamedTuple):
    """The state of all copies; first axis the copy."""

    rows: Array
    fields: Array
    commands: Array
    position: Array
    velocity: Array
    lagged: Array
    integral: Array
    limited: Array
    played: Array
    ring: Array
    heads: Array
    efforts: Array
    accelerations: Array
    slip: Array
    fill: Array
    contacts: Array
    contact_count: Array
    joint_impulses: Array
    """(B, 2, n): what dry friction and brakes, then stops (upper positive), gave in the last step."""
    scene: Array
    active: Array
    unsolved: Array
    """(B,): in how many steps of the last call the sweeps of the contact solver ended before they were done."""
