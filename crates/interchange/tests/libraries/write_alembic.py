"""Writes with the format's own library: a moving gate with a flag whose points move, with
UVs by corner and a face set, a sheet whose faces change, and points that are born.

Usage: write_alembic.py FILE
"""

import sys

import imath
from alembic3d.Abc import *
from alembic3d.AbcCoreAbstract import *
from alembic3d.AbcGeom import *


def v3(points):
    array = imath.V3fArray(len(points))
    for i, point in enumerate(points):
        array[i] = imath.V3f(*point)
    return array


def v2(points):
    array = imath.V2fArray(len(points))
    for i, point in enumerate(points):
        array[i] = imath.V2f(*point)
    return array


def ints(kind, numbers):
    array = kind(len(numbers))
    for i, number in enumerate(numbers):
        array[i] = number
    return array


SQUARE = [(0, 0, 0), (1, 0, 0), (1, 0, -1), (0, 0, -1)]


def main(path):
    archive = OArchive(path)
    # 25 frames a second, from frame 10 on.
    times = TimeSampling(1 / 25, 10 / 25)
    index = archive.addTimeSampling(times)
    top = archive.getTop()

    gate = OXform(top, "Gate", index)
    for frame in range(3):
        sample = XformSample()
        sample.setTranslation(imath.V3d(2 * frame, 0, 0))
        sample.setYRotation(90)
        gate.getSchema().set(sample)

    flag = OPolyMesh(gate, "Flag", index)
    schema = flag.getSchema()
    for frame in range(3):
        points = [(0, frame, 0)] + SQUARE[1:]
        uvs = OV2fGeomParamSample(v2([(0, 0), (0, 1), (1, 1), (1, 0)]), GeometryScope.kFacevaryingScope)
        # Corners go clockwise.
        sample = OPolyMeshSchemaSample(
            v3(points), ints(imath.IntArray, [0, 3, 2, 1]), ints(imath.IntArray, [4]), uvs
        )
        sample.setVelocities(v3([(0, 25, 0)] + [(0, 0, 0)] * 3))
        schema.set(sample)
    faces = schema.createFaceSet("Hem")
    faces.getSchema().set(OFaceSetSchemaSample(ints(imath.IntArray, [0])))

    torn = OPolyMesh(top, "Torn", index)
    triangles = [[0, 2, 1, 0, 3, 2], [0, 2, 1], [0, 2, 1]]
    for corners in triangles:
        torn.getSchema().set(
            OPolyMeshSchemaSample(
                v3(SQUARE), ints(imath.IntArray, corners), ints(imath.IntArray, [3] * (len(corners) // 3))
            )
        )

    sparks = OPoints(top, "Sparks", index)
    for frame in range(3):
        count = frame + 1
        widths = OFloatGeomParamSample(floats([0.5] * count), GeometryScope.kVertexScope)
        sample = OPointsSchemaSample(
            v3([(i, 5, 0) for i in range(count)]), v3([(0, 1, 0)] * count), widths
        )
        sparks.getSchema().set(sample)


def floats(numbers):
    return ints(imath.FloatArray, numbers)


main(sys.argv[1])
