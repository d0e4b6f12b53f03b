"""Prints what the format's own library reads of an archive, as JSON.

Usage: read_alembic.py FILE
"""

import json
import sys

from alembic3d.Abc import *
from alembic3d.AbcGeom import *


def rows(array):
    return [list(v) if hasattr(v, "__len__") else v for v in array]


def sampled(property, times):
    return [rows(property.getValue(ISampleSelector(t))) for t in times]


def visit(parent, matrices, times, found):
    for i in range(parent.getNumChildren()):
        header = parent.getChildHeader(i)
        child = IObject(parent, header.getName())
        of = {"path": child.getFullName(), "matrices": matrices}
        below = matrices
        if IXform.matches(header):
            schema = IXform(parent, header.getName()).getSchema()
            below = []
            for time in times:
                matrix = schema.getValue(ISampleSelector(time)).getMatrix()
                below.append([matrix[i][j] for i in range(4) for j in range(4)])
        elif IPolyMesh.matches(header):
            schema = IPolyMesh(parent, header.getName()).getSchema()
            of["points"] = sampled(schema.getPositionsProperty(), times)
            of["corners"] = sampled(schema.getFaceIndicesProperty(), times)[0]
            of["counts"] = sampled(schema.getFaceCountsProperty(), times)[0]
            velocities = schema.getVelocitiesProperty()
            of["velocities"] = sampled(velocities, times) if velocities.valid() else []
            for name, param in (("uvs", schema.getUVsParam()), ("normals", schema.getNormalsParam())):
                of[name] = rows(param.getExpandedValue(ISampleSelector(times[0])).getVals()) if param.valid() else []
            box = schema.getSelfBoundsProperty().getValue(ISampleSelector(times[0]))
            of["box"] = [list(box.min()), list(box.max())]
        elif IPoints.matches(header):
            schema = IPoints(parent, header.getName()).getSchema()
            of["points"] = sampled(schema.getPositionsProperty(), times)
            of["ids"] = [len(schema.getIdsProperty().getValue(ISampleSelector(t))) for t in times]
            of["velocities"] = sampled(schema.getVelocitiesProperty(), times)
            widths = schema.getWidthsParam()
            of["widths"] = [rows(widths.getExpandedValue(ISampleSelector(t)).getVals()) for t in times]
        elif ICamera.matches(header):
            sample = ICamera(parent, header.getName()).getSchema().getValue(ISampleSelector(times[0]))
            of["camera"] = [
                sample.getFocalLength(),
                sample.getHorizontalAperture(),
                sample.getVerticalAperture(),
                sample.getFStop(),
                sample.getFocusDistance(),
            ]
        found.append(of)
        visit(child, below, times, found)


def main(path, first, last, fps):
    archive = IArchive(path)
    times = [frame / fps for frame in range(first, last + 1)]
    found = []
    visit(archive.getTop(), [], times, found)
    start, end = GetArchiveStartAndEndTime(archive)[:2]
    print(json.dumps({"objects": found, "start": start, "end": end}))


main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]), float(sys.argv[4]))
