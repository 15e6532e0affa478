"""Motion carried from one body to another: reading the source, pairing, carrying over, planting, measuring."""

from pegloom.core.motion.borrowed import Borrowed, CarryOptions
from pegloom.core.motion.retarget.carrying import Carried, retarget
from pegloom.core.motion.retarget.chains import part_title, parts_of
from pegloom.core.motion.retarget.pairing import ChainPair, Pairing, pair, refusal, said, sign_of
from pegloom.core.motion.retarget.plant import Contact, Sole
from pegloom.core.motion.retarget.soles import soles_of
from pegloom.core.motion.retarget.source import Source, Stood, moments_of, places_at, stance_of, stood
from pegloom.core.motion.retarget.touch import Flesh, flesh_of

__all__ = [
    "Borrowed", "Carried", "CarryOptions", "ChainPair", "Contact", "Flesh", "Pairing", "Sole", "Source", "Stood", "flesh_of", "moments_of", "pair", "part_title", "parts_of", "places_at", "refusal",
    "retarget", "said", "sign_of", "soles_of", "stance_of", "stood",
]  # fmt: skip
