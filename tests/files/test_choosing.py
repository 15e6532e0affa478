"""What of a file comes in."""

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.document import edits
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.import_choice import ImportChoice, taken, worth_asking
from tests.support.figures import wick


@pytest.fixture(scope="module")
def imported(tmp_path_factory):
    file = tmp_path_factory.mktemp("choosing") / "wick.glb"
    document = wick()
    document, _ = edits.add_trial_clip(edits.build_controls(document))
    write_glb(file, document.character)
    return read_gltf(file)


def test_everything_is_taken_unless_it_is_not_wanted(imported):
    assert worth_asking(imported)
    whole = taken(imported, ImportChoice())
    assert whole.parts == imported.parts and whole.skeleton is imported.skeleton and whole.clips == imported.clips
    bare = taken(imported, ImportChoice(skeleton=False, looks=False))
    assert bare.skeleton is None and bare.weights is None and not bare.clips and not bare.materials
    assert any("skeleton" in n for n in bare.notes) and any("materials" in n for n in bare.notes)
    unbound = taken(imported, ImportChoice(weights=False, clips=False))
    assert unbound.skeleton is imported.skeleton and unbound.weights is None and not unbound.clips


def test_parts_left_out_take_their_weights_with_them(imported):
    first = imported.parts[0].id
    made = taken(imported, ImportChoice(parts=frozenset({first})))
    assert [p.id for p in made.parts] == [first]
    assert set(made.weights) == {first}
    assert "eyes" in " ".join(made.notes)
    for i, part in enumerate(made.parts):
        assert np.array_equal(part.mesh.points, imported.parts[i].mesh.points)
    with pytest.raises(EditError, match="a part at least"):
        taken(imported, ImportChoice(parts=frozenset()))
