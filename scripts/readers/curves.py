"""Holds COLLADA files with a curve for each number, evaluated as the standard's text has it, against places computed elsewhere.

No program at hand plays such curves, so this reads them with a COLLADA library's XML tree and numpy alone; the formulas are those of
"Curve Interpolation" in the specification: a Bezier piece's parameter is found from its time by bisection.

curves.py PLACES FILE: prints the greatest distance in mm and angle in degrees at whole frames and at half frames.
"""
import json
import math
import sys

import collada
import numpy as np

NS = "{http://www.collada.org/2005/11/COLLADASchema}"


def numbers(element):
    return np.array([float(word) for word in element.text.split()])


def curves(root):
    """For each target, a function of time."""
    by_id = {element.get("id"): element for element in root.iter() if element.get("id")}
    found = {}
    for top in root.iter(NS + "animation"):
        for channel in top.findall(NS + "channel"):
            sampler = by_id[channel.get("source")[1:]]
            inputs = {each.get("semantic"): by_id[each.get("source")[1:]] for each in sampler.findall(NS + "input")}
            array = lambda name: numbers(inputs[name].find(NS + "float_array")) if name in inputs else None
            ways = inputs["INTERPOLATION"].find(NS + "Name_array").text.split()
            found.setdefault(channel.get("target"), (array("INPUT"), array("OUTPUT"), ways, array("IN_TANGENT"), array("OUT_TANGENT")))
    return found


def value(curve, time):
    times, values, ways, into, out = curve
    at = int(np.searchsorted(times, time, side="right")) - 1
    if at < 0:
        return values[0]
    if at >= len(times) - 1:
        return values[-1]
    span = times[at + 1] - times[at]
    if ways[at] == "STEP":
        return values[at]
    if ways[at] == "LINEAR":
        return values[at] + (values[at + 1] - values[at]) * (time - times[at]) / span
    points = np.array([(times[at], values[at]), out[2 * at : 2 * at + 2], into[2 * at + 2 : 2 * at + 4], (times[at + 1], values[at + 1])])
    bezier = lambda column, s: (
        points[0][column] * (1 - s) ** 3 + 3 * points[1][column] * s * (1 - s) ** 2 + 3 * points[2][column] * s**2 * (1 - s) + points[3][column] * s**3
    )
    low, high = 0.0, 1.0
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if bezier(0, middle) < time else (low, middle)
    return bezier(1, (low + high) / 2)


def rotation(axis, degrees):
    x, y, z = axis / np.linalg.norm(axis)
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    made = np.eye(4)
    made[:3, :3] = c * np.eye(3) + s * np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]]) + (1 - c) * np.outer((x, y, z), (x, y, z))
    return made


def local(node, found, time):
    made = np.eye(4)
    for element in node:
        kind = element.tag.removeprefix(NS)
        if kind not in ("translate", "rotate", "scale", "matrix"):
            continue
        own, target = numbers(element), f"{node.get('id')}/{element.get('sid')}"
        for member, index in (("X", 0), ("Y", 1), ("Z", 2), ("ANGLE", 3)):
            if f"{target}.{member}" in found:
                own[index] = value(found[f"{target}.{member}"], time)
        step = np.eye(4)
        if kind == "translate":
            step[:3, 3] = own
        elif kind == "scale":
            step[:3, :3] = np.diag(own)
        elif kind == "rotate":
            step = rotation(own[:3], own[3])
        else:
            step = own.reshape(4, 4)
        made = made @ step
    return made


def worlds(root, found, time, upright):
    placed = {}

    def below(element, above):
        for node in element.findall(NS + "node"):
            world = above @ local(node, found, time)
            placed.setdefault(node.get("name"), []).append(world)
            below(node, world)

    below(root.find(f".//{NS}visual_scene"), upright)
    return {name: all[0] for name, all in placed.items() if len(all) == 1}


def angle(a, b):
    a, b = (np.array(v) / np.linalg.norm(v) for v in (a, b))
    return math.degrees(math.atan2(np.linalg.norm(np.cross(a, b)), np.dot(a, b)))


def main(places, path):
    expected = json.load(open(places))
    take, rate = expected["takes"][0], expected["fps"]
    root = collada.Collada(path, ignore=[collada.common.DaeError]).xmlnode.getroot()
    metres = float(root.find(f"{NS}asset/{NS}unit").get("meter"))
    upright = rotation(np.array([1.0, 0, 0]), -90) if root.find(f"{NS}asset/{NS}up_axis").text == "Z_UP" else np.eye(4)
    found = curves(root)
    worst = {0: [0.0, 0.0], 1: [0.0, 0.0]}
    seen, names = set(), {node["name"] for node in take["nodes"]}
    for step in range(int(round((take["last"] - take["first"]) * 2)) + 1):
        # Takes start at zero.
        placed = worlds(root, found, step / 2 / rate, upright)
        for node in take["nodes"]:
            here = placed.get(node["name"])
            if here is None:
                continue
            seen.add(node["name"])
            row = node["rows"][step]
            errors = worst[step % 2]
            errors[0] = max(errors[0], math.dist(here[:3, 3] * metres, row[:3]) * 1000)
            for axis in range(3):
                errors[1] = max(errors[1], angle(here[:3, axis], row[3 + 3 * axis : 6 + 3 * axis]))
    assert len(seen) > 0.7 * len(names), f"{path}: {len(names) - len(seen)} of {len(names)} nodes are not there"
    print(json.dumps({"nodes": len(seen), "of": len(names), "whole": worst[0], "half": worst[1]}))


main(*sys.argv[1:])
