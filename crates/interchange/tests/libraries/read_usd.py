"""Prints what the format's own library reads of a stage, as JSON.

Usage: read_usd.py FILE
"""

import json
import sys

from pxr import Usd, UsdGeom, UsdUtils


def sampled(attribute, times):
    return [[list(v) if hasattr(v, "__len__") else v for v in (attribute.Get(t) or [])] for t in times]


def main(path):
    stage = Usd.Stage.Open(path)
    assert stage, "cannot be opened"
    first, last = stage.GetStartTimeCode(), stage.GetEndTimeCode()
    times = [first + i for i in range(int(last - first) + 1)]
    cache = UsdGeom.XformCache()
    prims = []
    for prim in stage.TraverseAll():
        of = {"path": str(prim.GetPath()), "type": str(prim.GetTypeName())}
        if prim.IsA(UsdGeom.Mesh):
            mesh = UsdGeom.Mesh(prim)
            counts = mesh.GetFaceVertexCountsAttr().Get(first)
            corners = mesh.GetFaceVertexIndicesAttr().Get(first)
            points = mesh.GetPointsAttr().Get(first)
            valid, why = UsdGeom.Mesh.ValidateTopology(corners, counts, len(points))
            assert valid, why
            of["faces"] = [len(counts), list(corners)[:6]]
            of["points"] = sampled(mesh.GetPointsAttr(), times)
            of["velocities"] = sampled(mesh.GetVelocitiesAttr(), times)
            uvs = UsdGeom.PrimvarsAPI(prim).GetPrimvar("st")
            of["uvs"] = [len(uvs.Get(first)), uvs.GetInterpolation()] if uvs.HasValue() else None
        if prim.IsA(UsdGeom.Points):
            points = UsdGeom.Points(prim)
            of["ids"] = [list(points.GetIdsAttr().Get(t)) for t in times]
            of["points"] = sampled(points.GetPointsAttr(), times)
            of["widths"] = [list(points.GetWidthsAttr().Get(t)) for t in times]
        if prim.IsA(UsdGeom.PointInstancer):
            instancer = UsdGeom.PointInstancer(prim)
            of["places"] = [
                [list(m.ExtractTranslation()) for m in instancer.ComputeInstanceTransformsAtTime(t, t)]
                for t in times
            ]
        if prim.IsA(UsdGeom.Camera):
            of["focal_length"] = UsdGeom.Camera(prim).GetFocalLengthAttr().Get(first)
        if prim.IsA(UsdGeom.Xformable):
            of["matrices"] = []
            for t in times:
                cache.SetTime(t)
                matrix = cache.GetLocalToWorldTransform(prim)
                of["matrices"].append([matrix[i][j] for i in range(4) for j in range(4)])
        prims.append(of)
    unit, up = UsdGeom.GetStageMetersPerUnit(stage), str(UsdGeom.GetStageUpAxis(stage))
    head = {"fps": stage.GetTimeCodesPerSecond(), "times": times, "unit": unit, "up": up}
    print(json.dumps({**head, "prims": prims}))


main(sys.argv[1])
