"""The work areas, in the order of the road. This is the only list of them."""

from pegloom.app.areas.controls.area import AREA as CONTROLS
from pegloom.app.areas.handover.area import AREA as HANDOVER
from pegloom.app.areas.joints.area import AREA as JOINTS
from pegloom.app.areas.mesh.area import AREA as MESH
from pegloom.app.areas.motion.area import AREA as MOTION
from pegloom.app.areas.weights.area import AREA as WEIGHTS

AREAS = (MESH, JOINTS, WEIGHTS, CONTROLS, MOTION, HANDOVER)

__all__ = ["AREAS"]
