"""The demo projects and meshes that ship."""

from pathlib import Path

DEMO = Path(__file__).parents[1] / "assets" / "demo"
DEMOS = {
    "wick": "Wick, the ferry postman",
    "pier": "Wick on the pier, borrowed motion",
    "pannier": "Wick hands a pannier over, four figures",
    "oilskin": "Wick in his oilskin",
    "lesson": "A bad shoulder to mend",
    "dumble": "Dumble, the pack tapir",
    "harl": "Harl, the heron",
    "winch": "The bell winch",
    "lantern": "The moth lantern",
}


def is_demo(path: Path) -> bool:
    """Whether a file is one of those that ship."""
    return "demo" in path.parts and "assets" in path.parts
