"""The picture of docs/deformation.md: shoulder, elbow, hip and fist as bound, fitted, and with helper joints.

Usage: python tools/bends.py [OUT.png]
"""

from __future__ import annotations

import math
import sys
from dataclasses import replace
from pathlib import Path

from PIL import Image, ImageDraw

from pegloom.app.demos import DEMO
from pegloom.core.motion.trials import trial_pose
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document
from pegloom.files.project import open_project
from pegloom.render.studio import Studio
from pegloom.scene.camera import Camera
from pegloom.scene.display import Display
from pegloom.scene.shot import Backdrop, Shot

SIZE = (300, 250)
GROUND, INK = (0.93, 0.91, 0.87), (58, 52, 46)
LOOKS = (("arm_up", "arm.l.upper", 28.0, 0.5), ("elbow", "arm.l.lower", 60.0, 0.42), ("crouch", "leg.l.upper", 55.0, 0.62), ("hand_twist", "arm.l.end", 70.0, 0.36))
"""Trial, joint that is looked at, degrees to the side, and how wide, as a share of the height."""


def main(out: Path) -> None:
    bound = open_project(DEMO / "wick.pegloom")
    rows = [("as bound", bound), ("fitted to flesh", edits.fit_to_flesh(bound)[0]), ("with helper joints", edits.add_helpers(bound)[0])]
    sheet = Image.new("RGB", (SIZE[0] * len(LOOKS), (SIZE[1] + 22) * len(rows)), tuple(round(255 * c) for c in GROUND))
    draw = ImageDraw.Draw(sheet)
    with Studio() as studio:
        for r, (title, document) in enumerate(rows):
            for c, look in enumerate(LOOKS):
                sheet.paste(picture(studio, document, *look), (c * SIZE[0], r * (SIZE[1] + 22) + 22))
                draw.text((c * SIZE[0] + 8, r * (SIZE[1] + 22) + 5), f"{look[0].replace('_', ' ')}, {title}", INK)
    sheet.save(out, optimize=True)


def picture(studio: Studio, document: Document, trial: str, joint: str, yaw: float, wide: float) -> Image.Image:
    character = document.require_character()
    skeleton = character.require_skeleton()
    character = replace(character, pose=trial_pose(skeleton, trial), clips=())
    at = evaluate(character).joints[skeleton.index[joint], :3, 3]
    camera = Camera(looks_at=(float(at[0]), float(at[1]), float(at[2])), distance=1.2 * wide * character.height, yaw=math.radians(yaw), pitch=math.radians(6.0))
    shot = Shot(camera, SIZE, 0.0, 0.0, 30.0, "", Display.CLAY, backdrop=Backdrop.PLAIN, colour=GROUND, tone=None)
    return Image.fromarray(studio.picture(document.with_character(character), shot, 0.0)).convert("RGB")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("docs/screenshots/bends.png"))
