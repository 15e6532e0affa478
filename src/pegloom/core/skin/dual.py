"""Dual quaternion skinning, mixed with linear vertex by vertex.

Kavan, Collins, Zara, O'Sullivan, "Geometric skinning with approximate dual quaternion blending", ACM Transactions on
Graphics 27(4), 2008. A joint's scale is blended linearly first, its turn and place as a dual quaternion after.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import ShapeError
from pegloom.core.skin.weights import Packed


def skin_dual(points: FloatArray, skin: Packed, matrices: FloatArray, share: FloatArray) -> FloatArray:
    """Carry rest points to a pose.

    Parameters
    ----------
    points : (n, 3) at rest. skin : packed weights, the largest of a row first. matrices : (j, 4, 4) posed_from_rest.
    share : (n,) 0 linear blending to 1 dual quaternions; between, the mean of both places.

    Returns points (n, 3). Raises ShapeError for another number of vertices.
    """
    if not len(points) == len(skin.indices) == len(share):
        raise ShapeError(f"skinning: {len(points)} points, weights for {len(skin.indices)}, shares for {len(share)}")
    turns, duals, stretch = rigid_parts(matrices)
    plain = bool(np.abs(stretch - np.eye(3)).max(initial=0.0) < 1e-9)
    out = np.empty((len(points), 3))
    linear = np.ascontiguousarray(matrices[:, :3, :])
    both = np.concatenate([turns, duals], axis=1)
    _skin_dual(points, skin.indices, skin.values, linear, both, stretch, plain, share, out)
    return out


def rigid_parts(matrices: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Each matrix (j, 4, 4) as stretch, then turn, then place.

    Returns unit quaternions (j, 4) x y z w, their dual parts (j, 4), and stretches (j, 3, 3) at rest (polar
    decomposition).
    """
    linear = matrices[:, :3, :3]
    square = np.swapaxes(linear, 1, 2) @ linear
    if np.abs(square - np.eye(3)).max(initial=0.0) < 1e-10:
        rotation, stretch = linear, np.tile(np.eye(3), (len(matrices), 1, 1))
    else:
        u, _, vt = np.linalg.svd(linear)
        u[:, :, 2] *= np.sign(np.linalg.det(u @ vt))[:, None]
        rotation = u @ vt
        stretch = np.swapaxes(rotation, 1, 2) @ linear
    turns = Rotation.from_matrix(rotation).as_quat()
    x, y, z, w = turns.T
    tx, ty, tz = matrices[:, :3, 3].T
    duals = 0.5 * np.stack(
        [tx * w + ty * z - tz * y, -tx * z + ty * w + tz * x, tx * y - ty * x + tz * w, -tx * x - ty * y - tz * z],
        axis=1,
    )
    return turns, duals, stretch


@njit(cache=True, nogil=True, fastmath=True)
def _skin_dual(  # type: ignore[no-untyped-def]  # pragma: no cover
    points, indices, values, matrices, both, stretch, plain, share, out
):
    width = indices.shape[1]
    for v in range(len(points)):
        x, y, z = points[v, 0], points[v, 1], points[v, 2]
        s = share[v]
        la = lb = lc = 0.0
        if s < 1.0:
            for k in range(width):
                w = values[v, k]
                if w != 0.0:
                    m = matrices[indices[v, k]]
                    la += w * (m[0, 0] * x + m[0, 1] * y + m[0, 2] * z + m[0, 3])
                    lb += w * (m[1, 0] * x + m[1, 1] * y + m[1, 2] * z + m[1, 3])
                    lc += w * (m[2, 0] * x + m[2, 1] * y + m[2, 2] * z + m[2, 3])
        if s <= 0.0:
            out[v, 0], out[v, 1], out[v, 2] = la, lb, lc
            continue
        j = indices[v, 0]
        fx, fy, fz, fw = both[j, 0], both[j, 1], both[j, 2], both[j, 3]
        qx = qy = qz = qw = dx = dy = dz = dw = 0.0
        for k in range(width):
            w = values[v, k]
            if w == 0.0:
                continue
            j = indices[v, k]
            # The shorter way round, seen from the strongest influence.
            if both[j, 0] * fx + both[j, 1] * fy + both[j, 2] * fz + both[j, 3] * fw < 0.0:
                w = -w
            qx += w * both[j, 0]
            qy += w * both[j, 1]
            qz += w * both[j, 2]
            qw += w * both[j, 3]
            dx += w * both[j, 4]
            dy += w * both[j, 5]
            dz += w * both[j, 6]
            dw += w * both[j, 7]
        if not plain:
            a = b = c = 0.0
            for k in range(width):
                w = values[v, k]
                if w != 0.0:
                    m = stretch[indices[v, k]]
                    a += w * (m[0, 0] * x + m[0, 1] * y + m[0, 2] * z)
                    b += w * (m[1, 0] * x + m[1, 1] * y + m[1, 2] * z)
                    c += w * (m[2, 0] * x + m[2, 1] * y + m[2, 2] * z)
            x, y, z = a, b, c
        square = qx * qx + qy * qy + qz * qz + qw * qw
        scale = 2.0 / square
        # Turned point: p + 2 q_v x (q_v x p + w p), the vector part over its norm; then the place 2 d q*.
        cx, cy, cz = qy * z - qz * y + qw * x, qz * x - qx * z + qw * y, qx * y - qy * x + qw * z
        px = x + scale * (qy * cz - qz * cy)
        py = y + scale * (qz * cx - qx * cz)
        pz = z + scale * (qx * cy - qy * cx)
        px += scale * (dx * qw - dw * qx + dz * qy - dy * qz)
        py += scale * (dy * qw - dw * qy + dx * qz - dz * qx)
        pz += scale * (dz * qw - dw * qz + dy * qx - dx * qy)
        out[v, 0] = (1.0 - s) * la + s * px
        out[v, 1] = (1.0 - s) * lb + s * py
        out[v, 2] = (1.0 - s) * lc + s * pz
