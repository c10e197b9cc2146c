"""Holds tables, evaluated as docs/formats.md has it, against places computed elsewhere.

A table has no rig: how nodes hang together and rest is taken from the .ncurve file that it was written from, the motion from the table
alone, read with Python's csv.

table.py PLACES FILE SCENE: prints the greatest distance in mm and angle in degrees at whole frames and at half frames.
"""
import csv
import json
import math
import sys

import numpy as np

AXES = {"x": np.array([1.0, 0, 0]), "y": np.array([0, 1.0, 0]), "z": np.array([0, 0, 1.0])}


def rotation(axis, degrees):
    x, y, z = axis
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    made = np.eye(4)
    made[:3, :3] = c * np.eye(3) + s * np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]]) + (1 - c) * np.outer(axis, axis)
    return made


def plain(name):
    return name.split("/")[-1].strip('"')


def tables(path):
    """For each node and component the keys of its curve, and for each node the order of its rotation."""
    with open(path, newline="") as file:
        rows = list(csv.reader(line for line in file if not line.startswith("#")))
    names, rows = rows[0], rows[1:]
    keys, orders = {}, {}
    if "channel" in names:
        for row in rows:
            cell = dict(zip(names, row))
            # These move nothing.
            if cell["unit"] in ("switch", "choice", "text"):
                continue
            node, member = cell["channel"].rsplit(":", 1)
            keys.setdefault((plain(node), member), []).append(cell)
            if cell["order"]:
                orders[plain(node)] = cell["order"]
        return keys, orders
    for column, heading in enumerate(names[1:], 1):
        channel, _, unit = heading.partition(" (")
        node, member = channel.rsplit(":", 1)
        if unit.startswith("deg "):
            orders[plain(node)] = unit[4:-1]
        for row in rows:
            cell = {"frame": row[0], "value": row[column], "interpolation": "linear", "before": "held", "after": "held"}
            keys.setdefault((plain(node), member), []).append(cell)
    return keys, orders


class Curve:
    def __init__(self, cells):
        self.cells = cells
        self.frames = np.array([float(cell["frame"]) for cell in cells])
        self.values = [float(cell["value"]) for cell in cells]
        self.left = [float(cell["left"]) if cell.get("left") else value for cell, value in zip(cells, self.values)]
        assert {cells[0]["before"], cells[0]["after"]} <= {"held", "", "loop", "loop-offset"}, cells[0]

    def at(self, frame):
        first, last = self.frames[0], self.frames[-1]
        if last > first and (frame > last or frame < first):
            way = self.cells[0]["after" if frame > last else "before"]
            if way in ("loop", "loop-offset"):
                rounds = math.floor((frame - first) / (last - first))
                rise = (self.values[-1] - self.values[0]) * rounds if way == "loop-offset" else 0.0
                return self.at(frame - rounds * (last - first)) + rise
        at = int(np.searchsorted(self.frames, frame, side="right")) - 1
        if at < 0 or at >= len(self.frames) - 1:
            return self.left[0] if at < 0 else self.values[-1]
        a, b = self.cells[at], self.cells[at + 1]
        gap, start, end = self.frames[at + 1] - self.frames[at], self.values[at], self.left[at + 1]
        if a["interpolation"] == "hold":
            return start
        if a["interpolation"] == "linear":
            return start + (end - start) * (frame - self.frames[at]) / gap
        reach = [float(a["out_frames"]) if a["out_frames"] else gap / 3, float(b["in_frames"]) if b["in_frames"] else gap / 3]
        points = np.array(
            [
                (0.0, start),
                (reach[0], start + float(a["out_slope"] or 0) * reach[0]),
                (gap - reach[1], end - float(b["in_slope"] or 0) * reach[1]),
                (gap, end),
            ]
        )
        bezier = lambda s: (1 - s) ** 3 * points[0] + 3 * s * (1 - s) ** 2 * points[1] + 3 * s * s * (1 - s) * points[2] + s**3 * points[3]
        low, high = 0.0, 1.0
        for _ in range(60):
            middle = (low + high) / 2
            low, high = (middle, high) if bezier(middle)[0] < frame - self.frames[at] else (low, middle)
        return bezier((low + high) / 2)[1]


def angle(a, b):
    a, b = (np.array(v) / np.linalg.norm(v) for v in (a, b))
    return math.degrees(math.atan2(np.linalg.norm(np.cross(a, b)), np.dot(a, b)))


def main(places, path, scene):
    expected, scene = json.load(open(places)), json.load(open(scene))
    take, metres = expected["takes"][0], scene["space"]["metres_per_unit"]
    keys, orders = tables(path)
    own = {place: Curve(cells) for place, cells in keys.items() if cells[0].get("take", take["name"]) in ("", take["name"])}
    upright = rotation(AXES["x"], -90) if scene["space"]["up"] == "z" else np.eye(4)
    nodes = [node for rig in scene["rigs"] for node in rig["nodes"]]
    assert all(not {"before", "after", "transform"} & node.keys() for node in nodes), path

    def local(node, frame):
        name = node["name"]
        value = lambda member, rest: own[(name, member)].at(frame) if (name, member) in own else rest
        move, turn = node.get("translation", [0, 0, 0]), node.get("rotation", {}).get("rotate", {})
        size = node.get("scale", [1, 1, 1])
        made = np.eye(4)
        made[:3, 3] = [value(f"translation.{axis}", move[index]) for index, axis in enumerate("xyz")]
        angles = dict(zip("xyz", turn.get("angles", [0, 0, 0])))
        # The letters name the axes in the order in which they act.
        for axis in reversed(orders.get(name, turn.get("order", "xyz"))):
            made = made @ rotation(AXES[axis], value(f"rotation.{axis}", angles[axis]))
        return made @ np.diag([value(f"scale.{axis}", size[index]) for index, axis in enumerate("xyz")] + [1.0])

    worst, seen = {0: [0.0, 0.0], 1: [0.0, 0.0]}, set()
    for step in range(int(round((take["last"] - take["first"]) * 2)) + 1):
        placed = {}
        for node in nodes:
            above = placed[plain(node["parent"])] if node.get("parent") else upright
            placed[node["name"]] = above @ local(node, take["first"] + step / 2)
        for node in take["nodes"]:
            here = placed[node["name"]]
            seen.add(node["name"])
            row, errors = node["rows"][step], worst[step % 2]
            errors[0] = max(errors[0], math.dist(here[:3, 3] * metres, row[:3]) * 1000)
            for axis in range(3):
                errors[1] = max(errors[1], angle(here[:3, axis], row[3 + 3 * axis : 6 + 3 * axis]))
    print(json.dumps({"nodes": len(seen), "of": len(take["nodes"]), "whole": worst[0], "half": worst[1]}))


main(*sys.argv[1:])
