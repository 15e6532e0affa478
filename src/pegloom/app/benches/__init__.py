"""The benches, one module an area."""

from pegloom.app.benches.controls import ControlsBench
from pegloom.app.benches.handover import HandoverBench
from pegloom.app.benches.joints import JointsBench
from pegloom.app.benches.mesh import MeshBench
from pegloom.app.benches.motion import MotionBench
from pegloom.app.benches.weights import WeightsBench
from pegloom.app.session import Area

BENCHES = {
    Area.MESH: MeshBench,
    Area.JOINTS: JointsBench,
    Area.WEIGHTS: WeightsBench,
    Area.CONTROLS: ControlsBench,
    Area.MOTION: MotionBench,
    Area.HANDOVER: HandoverBench,
}

__all__ = ["BENCHES"]
