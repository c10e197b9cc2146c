"""Holds USD files, as the standard's own library evaluates them, against places that were computed elsewhere.

usd.py PLACES FILE: prints the greatest distance in mm and angle in degrees at whole frames and at half frames.
"""
import json
import math
import sys

from pxr import Gf, Usd, UsdGeom, UsdSkel


def worlds(stage, code):
    """The world transform of each node by its name, in metres with y up."""
    metres = UsdGeom.GetStageMetersPerUnit(stage)
    upright = Gf.Matrix4d(1)
    if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z:
        upright.SetRotate(Gf.Rotation(Gf.Vec3d(1, 0, 0), -90))
    cache = UsdGeom.XformCache(code)
    found = {}
    for prim in stage.Traverse():
        if prim.IsA(UsdSkel.Skeleton):
            skeletons = UsdSkel.Cache()
            root = UsdSkel.Root.Find(prim)
            skeletons.Populate(root, Usd.PrimDefaultPredicate)
            query = skeletons.GetSkelQuery(UsdSkel.Skeleton(prim))
            above = cache.GetLocalToWorldTransform(prim)
            for joint, matrix in zip(query.GetJointOrder(), query.ComputeJointSkelTransforms(code)):
                found.setdefault(joint.split("/")[-1], []).append(Gf.Matrix4d(matrix) * above * upright)
        elif prim.IsA(UsdGeom.Xform):
            name = prim.GetDisplayName() or prim.GetName()
            found.setdefault(name, []).append(cache.GetLocalToWorldTransform(prim) * upright)
    return {name: (all[0], metres) for name, all in found.items() if len(all) == 1}


def angle(a, b):
    """Between two directions, in degrees; exact for small ones, too."""
    a, b = (Gf.Vec3d(*v).GetNormalized() for v in (a, b))
    return math.degrees(math.atan2(Gf.Cross(a, b).GetLength(), Gf.Dot(a, b)))


def identifier(name):
    plain = "".join(c if c.isascii() and c.isalnum() else "_" for c in name)
    return "_" + plain if plain[:1].isdigit() or not plain else plain


def main(places, path):
    expected = json.load(open(places))
    stage = Usd.Stage.Open(path)
    take = expected["takes"][0]
    worst = {0: [0.0, 0.0], 1: [0.0, 0.0]}
    names = {node["name"] for node in take["nodes"]}
    seen = set()
    for step in range(int(round((take["last"] - take["first"]) * 2)) + 1):
        found = worlds(stage, take["first"] + step / 2)
        for node in take["nodes"]:
            here = found.get(node["name"]) or found.get(identifier(node["name"]))
            if here is None:
                continue
            seen.add(node["name"])
            matrix, metres = here
            row = node["rows"][step]
            place = matrix.ExtractTranslation() * metres
            errors = worst[step % 2]
            errors[0] = max(errors[0], math.dist(place, row[:3]) * 1000)
            for axis in range(3):
                errors[1] = max(errors[1], angle(matrix.GetRow3(axis), row[3 + 3 * axis : 6 + 3 * axis]))
    assert len(seen) > 0.7 * len(names), f"{path}: {len(names) - len(seen)} of {len(names)} nodes are not there"
    print(json.dumps({"nodes": len(seen), "of": len(names), "whole": worst[0], "half": worst[1]}))


main(*sys.argv[1:])
