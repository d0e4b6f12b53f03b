"""Writes a stage with the format's own library: a turning gate with a flag whose points
move, UVs by corner with indices, a colour, a reference with a variant, instances, points,
and long arrays of whole numbers and of halves, which crate files pack.

Usage: write_usd.py FILE
"""

import sys

from pxr import Gf, Sdf, Usd, UsdGeom, Vt

SQUARE = [(0, 0, 0), (1, 0, 0), (1, 0, -1), (0, 0, -1)]


def main(path):
    stage = Usd.Stage.CreateNew(path)
    UsdGeom.SetStageMetersPerUnit(stage, 0.5)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    stage.SetTimeCodesPerSecond(25)

    gate = UsdGeom.Xform.Define(stage, "/Gate")
    gate.AddTranslateOp().Set((1, 2, 3))
    turn = gate.AddRotateYOp()
    turn.Set(0.0, 10)
    turn.Set(90.0, 12)

    flag = UsdGeom.Mesh.Define(stage, "/Gate/Flag")
    flag.CreateFaceVertexCountsAttr([4])
    flag.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
    for time in (10, 11, 12):
        flag.CreatePointsAttr().Set([(0, time - 10, 0)] + SQUARE[1:], time)
        flag.CreateVelocitiesAttr().Set([(0, 25, 0)] + [(0, 0, 0)] * 3, time)
    api = UsdGeom.PrimvarsAPI(flag)
    uvs = api.CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, "faceVarying")
    uvs.Set([(0, 0), (1, 1)])
    uvs.SetIndices([0, 1, 1, 0])
    api.CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray, "constant").Set([(0, 1, 0)])

    # A net of 100 x 100 faces.
    n = 100
    net = UsdGeom.Mesh.Define(stage, "/Net")
    net.CreatePointsAttr([(i % (n + 1), 10, i // (n + 1)) for i in range((n + 1) ** 2)])
    net.CreateFaceVertexCountsAttr([4] * (n * n))
    corners = []
    for i in range(n):
        for j in range(n):
            a = i * (n + 1) + j
            corners += [a, a + n + 1, a + n + 2, a + 1]
    net.CreateFaceVertexIndicesAttr(corners)

    board = stage.CreateClassPrim("/_Board")
    mesh = UsdGeom.Mesh.Define(stage, "/_Board/Plank")
    mesh.CreatePointsAttr(SQUARE)
    mesh.CreateFaceVertexCountsAttr([4])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
    crate = UsdGeom.Xform.Define(stage, "/Crate").GetPrim()
    crate.GetReferences().AddInternalReference("/_Board")
    sets = crate.GetVariantSets().AddVariantSet("height")
    for variant, height in (("low", 1), ("high", 7)):
        sets.AddVariant(variant)
        sets.SetVariantSelection(variant)
        with sets.GetVariantEditContext():
            UsdGeom.Xformable(crate).ClearXformOpOrder()
            UsdGeom.XformCommonAPI(crate).SetTranslate((0, height, 0))
    sets.SetVariantSelection("high")

    pile = UsdGeom.PointInstancer.Define(stage, "/Pile")
    UsdGeom.Mesh.Define(stage, "/Pile/Board").GetPrim().GetReferences().AddInternalReference("/_Board/Plank")
    pile.CreatePrototypesRel().AddTarget("/Pile/Board")
    pile.CreateProtoIndicesAttr([0, 0])
    pile.CreatePositionsAttr([(4, 0, 0), (8, 0, 0)])
    pile.CreateOrientationsAttr([Gf.Quath(1, 0, 0, 0), Gf.Quath(0, 0, 1, 0)])

    sparks = UsdGeom.Points.Define(stage, "/Sparks")
    sparks.CreatePointsAttr([(0, 20, 0)])
    sparks.CreateWidthsAttr([2])
    stage.GetRootLayer().Save()


main(sys.argv[1])
