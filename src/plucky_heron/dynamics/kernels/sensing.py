"""What sensors read, without their errors: rays, clearances, inertial units, contact forces, courses."""

from __future__ import annotations

import math

from plucky_heron.dynamics.kernels.forces import point_of, velocity_at
from plucky_heron.dynamics.kernels.geometry import core_distance, least_overlap, place_shape
from plucky_heron.dynamics.kernels.layout import (
    AXIS,
    BOX,
    CAPSULE,
    CARRIED,
    CYLINDER,
    FRICTION_IMPULSE,
    GRAVITY,
    GRID,
    NO_GROUND,
    NORMAL,
    NORMAL_IMPULSE,
    PAIR,
    SHAPE,
    SPHERE,
    TAIL,
    TWIST,
)
from plucky_heron.dynamics.kernels.manifold import feature
from plucky_heron.dynamics.kernels.places import ground_at
from plucky_heron.dynamics.kernels.rough import ray_to_grid
from plucky_heron.dynamics.kernels.tree import carried_along, place_nodes
from plucky_heron.kernels import kernel

JOINT, POSE, INERTIAL, CONTACT_FORCE, CLEARANCE, BEAMS, COURSE, BEARING = 0, 1, 2, 3, 4, 5, 6, 7


@kernel
def _roots(a, b, c):
    """First crossing t >= 0 of a t² + 2 b t + c = 0, or infinity; 0 when c < 0 (inside)."""
    if c <= 0.0:
        return 0.0
    d = b * b - a * c
    if d < 0.0 or b >= 0.0 or a <= 0.0:
        return math.inf
    return (-b - math.sqrt(d)) / a


@kernel
def ray_to_core(kind, size, r, at, faces, face_normals, vertices, first_face, last_face, ox, oy, oz, dx, dy, dz):
    """Distance along a ray (unit direction) to a shape, infinity if it passes; 0 from inside."""
    px, py, pz = ox - at[9], oy - at[10], oz - at[11]
    b = px * dx + py * dy + pz * dz
    x, y, z = (
        at[0] * px + at[3] * py + at[6] * pz,
        at[1] * px + at[4] * py + at[7] * pz,
        at[2] * px + at[5] * py + at[8] * pz,
    )
    u, v, w = (
        at[0] * dx + at[3] * dy + at[6] * dz,
        at[1] * dx + at[4] * dy + at[7] * dz,
        at[2] * dx + at[5] * dy + at[8] * dz,
    )
    if kind == SPHERE:
        return _roots(1.0, b, x * x + y * y + z * z - r * r)
    if kind == CAPSULE:
        near = math.inf
        t = _roots(u * u + v * v, x * u + y * v, x * x + y * y - r * r)
        if t < math.inf and abs(z + t * w) <= size[0]:
            near = t
        for sign in (-1.0, 1.0):
            e = z - sign * size[0]
            near = min(near, _roots(1.0, x * u + y * v + e * w, x * x + y * y + e * e - r * r))
        return near
    enter, leave = 0.0, math.inf
    if kind == BOX or kind == CYLINDER:
        for axis in range(3):
            if kind == CYLINDER and axis < 2:
                continue
            p, d = (x, u) if axis == 0 else (y, v) if axis == 1 else (z, w)
            half = (size[1] if kind == CYLINDER else size[axis]) + r
            if abs(d) < 1e-12:
                if abs(p) > half:
                    return math.inf
                continue
            one, two = (-half - p) / d, (half - p) / d
            enter, leave = max(enter, min(one, two)), min(leave, max(one, two))
        if kind == CYLINDER:
            radius = size[0] + r
            a, e, c = u * u + v * v, x * u + y * v, x * x + y * y - radius * radius
            if a < 1e-15:
                if c > 0.0:
                    return math.inf
            else:
                d = e * e - a * c
                if d < 0.0:
                    return math.inf
                root = math.sqrt(d)
                enter, leave = max(enter, (-e - root) / a), min(leave, (-e + root) / a)
        return enter if enter <= leave else math.inf
    for f in range(first_face, last_face):
        n0, n1, n2 = face_normals[f, 0], face_normals[f, 1], face_normals[f, 2]
        first = faces[f, 0]
        limit = n0 * vertices[first, 0] + n1 * vertices[first, 1] + n2 * vertices[first, 2] + r
        high = n0 * x + n1 * y + n2 * z - limit
        rate = n0 * u + n1 * v + n2 * w
        if abs(rate) < 1e-12:
            if high > 0.0:
                return math.inf
        elif rate < 0.0:
            enter = max(enter, -high / rate)
        else:
            leave = min(leave, -high / rate)
    return enter if enter <= leave else math.inf


@kernel
def rays_to_shapes(shapes, places, first, last, skip, ox, oy, oz, directions, out):
    """Shorten the rays (R, 3; unit) from one point, `out` (R) long, to where they meet shapes; those of node `skip` apart."""
    kinds, nodes, sizes, radii, reaches = shapes.kind, shapes.node, shapes.size, shapes.radius, shapes.reach
    faces, normals, vertices, ranges = shapes.faces, shapes.face_normals, shapes.vertices, shapes.face_range
    farthest = 0.0
    for e in range(out.shape[0]):
        farthest = max(farthest, out[e])
    for k in range(first, last):
        if skip >= 0 and nodes[k] == skip:
            continue
        px, py, pz = places[k, 9] - ox, places[k, 10] - oy, places[k, 11] - oz
        reach = reaches[k]
        size = px * px + py * py + pz * pz
        if size > (farthest + reach) * (farthest + reach):
            continue
        at = places[k]
        for e in range(out.shape[0]):
            dx, dy, dz = directions[e, 0], directions[e, 1], directions[e, 2]
            b = px * dx + py * dy + pz * dz
            if size - b * b > reach * reach or b < -reach or b - reach > out[e]:
                continue
            found = ray_to_core(kinds[k], sizes[k], radii[k], at, faces, normals, vertices, ranges[k, 0], ranges[k, 1], ox, oy, oz, dx, dy, dz)  # fmt: skip
            out[e] = min(out[e], found)


@kernel
def ray_to_ground(scene, s, ox, oy, oz, dx, dy, dz, farthest):
    """Distance along a ray to the ground of a scene; on rough ground cell by cell."""
    kind = scene.ground_kind[s]
    if kind == NO_GROUND:
        return math.inf
    if kind != GRID:
        nx, ny, nz = scene.plane[s, 0], scene.plane[s, 1], scene.plane[s, 2]
        high = ox * nx + oy * ny + oz * nz - scene.plane[s, 3]
        rate = dx * nx + dy * ny + dz * nz
        if high <= 0.0:
            return 0.0
        return -high / rate if rate < -1e-12 else math.inf
    return ray_to_grid(scene.grid[s], scene.heights, ox, oy, oz, dx, dy, dz, farthest)


@kernel
def clearance(scene, s, shapes, places, owned, pairs, g, corners):
    """Smallest distance of the `owned` (bool, by shape) shapes to the site and to shapes they may touch; negative: overlap."""
    best = math.inf
    other = scene.shapes
    for k in range(shapes.kind.shape[0]):
        if not owned[k]:
            continue
        at = places[k]
        if scene.ground_kind[s] != NO_GROUND:
            height, nx, ny, nz = ground_at(scene.ground_kind, scene.plane, scene.grid, scene.heights, s, at[9], at[10])
            count, _ = feature(shapes, k, at, -nx, -ny, -nz, corners[0], True)
            for e in range(count):
                height, nx, ny, nz = ground_at(
                    scene.ground_kind, scene.plane, scene.grid, scene.heights, s, corners[0, e, 0], corners[0, e, 1]
                )
                best = min(best, (corners[0, e, 2] - height) * nz - shapes.radius[k])
        for b in range(scene.shape_range[s, 0], scene.shape_range[s, 1]):
            at_b = other.pose[b]
            apart = math.sqrt((at[9] - at_b[9]) ** 2 + (at[10] - at_b[10]) ** 2 + (at[11] - at_b[11]) ** 2)
            if apart - shapes.reach[k] - other.reach[b] < best:
                found = core_distance(shapes, k, at, other, b, at_b, g)
                if found < 0.0:
                    found = least_overlap(shapes, k, at, other, b, at_b, g)
                best = min(best, found - shapes.radius[k] - other.radius[b])
    for p in range(pairs.shape[0]):
        a, b = pairs[p, 0], pairs[p, 1]
        if owned[a] or owned[b]:
            found = core_distance(shapes, a, places[a], shapes, b, places[b], g)
            if found < 0.0:
                found = least_overlap(shapes, a, places[a], shapes, b, places[b], g)
            best = min(best, found - shapes.radius[a] - shapes.radius[b])
    return best


@kernel
def on_course(tracks, s, x, y, ahead, out):
    """Arc length, offset to the left, heading, bend there; the point `ahead` (2), its heading; length."""
    first, last = tracks.ranges[s, 0], tracks.ranges[s, 1]
    best, at, share = math.inf, first, 0.0
    points = tracks.points
    for k in range(first, last - 1):
        ux, uy = points[k + 1, 0] - points[k, 0], points[k + 1, 1] - points[k, 1]
        size = ux * ux + uy * uy
        f = min(max(((x - points[k, 0]) * ux + (y - points[k, 1]) * uy) / size, 0.0), 1.0)
        ex, ey = x - points[k, 0] - f * ux, y - points[k, 1] - f * uy
        if ex * ex + ey * ey < best:
            best, at, share = ex * ex + ey * ey, k, f
    ux, uy = points[at + 1, 0] - points[at, 0], points[at + 1, 1] - points[at, 1]
    length = math.sqrt(ux * ux + uy * uy)
    out[0] = points[at, 2] + share * length
    out[1] = (ux * (y - points[at, 1]) - uy * (x - points[at, 0])) / length
    out[2] = math.atan2(uy, ux)
    far = out[0] + ahead
    total = points[last - 1, 2]
    if tracks.closed[s]:
        far -= total * math.floor(far / total)
    k = first
    while k < last - 2 and points[k + 1, 2] < far:
        k += 1
    vx, vy = points[k + 1, 0] - points[k, 0], points[k + 1, 1] - points[k, 1]
    f = min(max((far - points[k, 2]) / math.sqrt(vx * vx + vy * vy), 0.0), 1.0)
    out[4], out[5] = points[k, 0] + f * vx, points[k, 1] + f * vy
    out[6] = math.atan2(vy, vx)
    turn = out[6] - out[2]
    turn -= 2.0 * math.pi * math.floor((turn + math.pi) / (2.0 * math.pi))
    out[3] = turn / ahead if ahead > 0.0 else 0.0
    out[7] = total


@kernel(inline=True)
def _wrapped(angle):
    return angle - 2.0 * math.pi * math.floor((angle + math.pi) / (2.0 * math.pi))


@kernel(inline=True)
def _attitude(r, t, out):
    """Rotation r (9, world) times t (9, sensor in node)."""
    for a in range(3):
        for b in range(3):
            out[3 * a + b] = r[3 * a] * t[b] + r[3 * a + 1] * t[3 + b] + r[3 * a + 2] * t[6 + b]


@kernel(entry=True)
def sense(copies, tree, sensors, shapes, pairs, scene, tracks, state, h, scratch, out):
    """Channels of all sensors of `copies` (k,), out (B, channels)."""
    w, places, g, corners = scratch.w, scratch.places, scratch.simplex, scratch.corners
    line, r, directions = scratch.line, scratch.turn, scratch.rays
    parent, kinds, base, scalar, massless, axes, tree_rotation, tree_position, _, _ = tree
    n = parent.shape[0]
    for c in copies:
        q, v, s, o = state.position[c], state.velocity[c], state.scene[c], out[c]
        place_nodes(n, parent, kinds, scalar, axes, tree_rotation, tree_position, q, v, w)
        if sensors.accelerated:
            _accelerate(n, parent, base, state.rows[c], v, state.accelerations[c], w)
        for k in range(places.shape[0]):
            place_shape(shapes.node, shapes.pose, k, w, places[k])
        for k in range(sensors.kind.shape[0]):
            kind, i, at = sensors.kind[k], sensors.node[k], sensors.first[k]
            pose = sensors.pose[k]
            if kind == JOINT:
                o[at], o[at + 1], o[at + 2] = q[i], v[i], state.efforts[c, i]
                continue
            if kind == CONTACT_FORCE:
                fx, fy, fz = 0.0, 0.0, 0.0
                for e in range(state.contact_count[c]):
                    contact = state.contacts[c, e]
                    pair = int(contact[PAIR])
                    sign = 0.0
                    if sensors.owned[k, int(contact[SHAPE])]:
                        sign = 1.0
                    elif pair >= 0 and sensors.owned[k, pairs[pair, 1]]:
                        sign = -1.0
                    fx += sign * (contact[NORMAL_IMPULSE] * contact[NORMAL] + contact[FRICTION_IMPULSE])
                    fy += sign * (contact[NORMAL_IMPULSE] * contact[NORMAL + 1] + contact[FRICTION_IMPULSE + 1])
                    fz += sign * (contact[NORMAL_IMPULSE] * contact[NORMAL + 2] + contact[FRICTION_IMPULSE + 2])
                o[at] = math.sqrt(fx * fx + fy * fy + fz * fz) / h
                o[at + 1] = 1.0 if o[at] > 0.0 else 0.0
                continue
            if kind == CLEARANCE:
                near = clearance(scene, s, shapes, places, sensors.owned[k], pairs, g, corners)
                o[at], o[at + 1] = max(near, 0.0), max(-near, 0.0)
                continue
            x, y, z = point_of(w, i, pose[9], pose[10], pose[11])
            if i >= 0:
                _attitude(w[i], pose, r)
            else:
                for e in range(9):
                    r[e] = pose[e]
            vx, vy, vz = velocity_at(w, i, x, y, z)
            if kind == POSE:
                o[at], o[at + 1], o[at + 2] = x, y, z
                o[at + 3] = math.atan2(r[7], r[8])
                o[at + 4] = -math.asin(min(max(r[6], -1.0), 1.0))
                o[at + 5] = math.atan2(r[3], r[0])
                wx, wy, wz = (w[i, TWIST], w[i, TWIST + 1], w[i, TWIST + 2]) if i >= 0 else (0.0, 0.0, 0.0)
                if sensors.own_axes[k]:
                    vx, vy, vz = (
                        r[0] * vx + r[3] * vy + r[6] * vz,
                        r[1] * vx + r[4] * vy + r[7] * vz,
                        r[2] * vx + r[5] * vy + r[8] * vz,
                    )
                    wx, wy, wz = (
                        r[0] * wx + r[3] * wy + r[6] * wz,
                        r[1] * wx + r[4] * wy + r[7] * wz,
                        r[2] * wx + r[5] * wy + r[8] * wz,
                    )
                o[at + 6], o[at + 7], o[at + 8] = vx, vy, vz
                o[at + 9], o[at + 10], o[at + 11] = wx, wy, wz
            elif kind == INERTIAL:
                wx, wy, wz = w[i, TWIST], w[i, TWIST + 1], w[i, TWIST + 2]
                ax = w[i, CARRIED + 3] + w[i, CARRIED + 1] * z - w[i, CARRIED + 2] * y + wy * vz - wz * vy
                ay = w[i, CARRIED + 4] + w[i, CARRIED + 2] * x - w[i, CARRIED] * z + wz * vx - wx * vz
                az = w[i, CARRIED + 5] + w[i, CARRIED] * y - w[i, CARRIED + 1] * x + wx * vy - wy * vx
                for e in range(3):
                    o[at + e] = r[e] * wx + r[3 + e] * wy + r[6 + e] * wz
                    o[at + 3 + e] = r[e] * ax + r[3 + e] * ay + r[6 + e] * az
            elif kind == BEAMS:
                count = sensors.beams[k]
                lengths = o[at : at + count]
                for e in range(count):
                    d = sensors.rays[sensors.first_ray[k] + e]
                    for a in range(3):
                        directions[e, a] = r[3 * a] * d[0] + r[3 * a + 1] * d[1] + r[3 * a + 2] * d[2]
                    dx, dy, dz = directions[e, 0], directions[e, 1], directions[e, 2]
                    far = sensors.range[k]
                    lengths[e] = min(far, ray_to_ground(scene, s, x, y, z, dx, dy, dz, far))
                fixed = scene.shapes
                rays_to_shapes(fixed, fixed.pose, scene.shape_range[s, 0], scene.shape_range[s, 1], -2, x, y, z, directions, lengths)  # fmt: skip
                rays_to_shapes(shapes, places, 0, places.shape[0], i, x, y, z, directions, lengths)
            elif kind == COURSE:
                if tracks.ranges[s, 1] - tracks.ranges[s, 0] < 2:
                    continue
                on_course(tracks, s, x, y, sensors.range[k], line)
                yaw = math.atan2(r[3], r[0])
                o[at], o[at + 1] = line[0], line[1]
                o[at + 2] = _wrapped(yaw - line[2])
                o[at + 3] = line[3]
                ex, ey = line[4] - x, line[5] - y
                o[at + 4] = r[1] * ex + r[4] * ey
                o[at + 5] = _wrapped(line[6] - yaw)
                o[at + 6] = math.cos(line[2]) * vx + math.sin(line[2]) * vy
                o[at + 7] = line[7]
                o[at + 8] = 1.0 if line[0] >= line[7] - 1e-6 else 0.0
            else:
                ex, ey, ez = sensors.mark[k, 0] - x, sensors.mark[k, 1] - y, sensors.mark[k, 2] - z
                flat = math.sqrt(ex * ex + ey * ey)
                o[at] = math.sqrt(flat * flat + ez * ez)
                o[at + 1] = math.atan2(r[1] * ex + r[4] * ey + r[7] * ez, r[0] * ex + r[3] * ey + r[6] * ez)
                o[at + 2] = math.atan2(ez, flat)


@kernel
def _accelerate(n, parent, base, row, v, acceleration, w):
    """Spatial accelerations of the nodes with gravity as an upward acceleration: what an inertial unit feels."""
    tail = row.shape[0] - TAIL
    for i in range(n):
        j = parent[i]
        if j < 0:
            for e in range(3):
                w[i, CARRIED + e] = 0.0
                w[i, CARRIED + 3 + e] = -row[tail + GRAVITY + e]
        else:
            for e in range(6):
                w[i, CARRIED + e] = w[j, CARRIED + e]
        b = base[i]
        if b >= 0:
            c0, c1, c2, c3, c4, c5 = carried_along(i, b, v[i], w)
            w[i, CARRIED] += c0
            w[i, CARRIED + 1] += c1
            w[i, CARRIED + 2] += c2
            w[i, CARRIED + 3] += c3
            w[i, CARRIED + 4] += c4
            w[i, CARRIED + 5] += c5
        for e in range(6):
            w[i, CARRIED + e] += w[i, AXIS + e] * acceleration[i]
