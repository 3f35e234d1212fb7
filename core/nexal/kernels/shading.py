"""Light on a surface by the metallic-roughness model with clear coat.

References: Khronos, *glTF 2.0*, appendix B, and its extension for clear coat: GGX (Walter et al., *Microfacet Models
for Refraction through Rough Surfaces*, EGSR 2007), height-correlated Smith masking (Heitz, JCGT 3, 2014), Schlick's
Fresnel term (Computer Graphics Forum 13, 1994).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.lobes import LEAST_ROUGHNESS, lobe_tables, looked_up, schlick
from nexal.kernels.rasterising import DISTANCE, Surface
from nexal.kernels.threads import spread

Floats = NDArray[np.float64]

DIELECTRIC = 0.04
"""Reflectance of what is no metal, seen straight on."""
COAT_ROUGHNESS = 0.1
SPREAD = 0.6
"""How far a patch of a light widens a lobe, in its own sides: so much that neighbours melt into one another."""


@dataclass(frozen=True)
class AreaLight:
    """A rectangle that shines at the object's middle: where it stands in the eye's space, its size, its radiance.

    It is summed up as `across` x `down` patches, each a point whose lobe is widened by the patch's own size.
    """

    position: tuple[float, float, float]
    width: float
    height: float
    radiance: tuple[float, float, float]
    across: int
    down: int

    def patches(self) -> Floats:
        """Rows of x, y, z, the direction that it faces, its area, and how far it spreads."""
        at = np.asarray(self.position)
        facing = -at / np.linalg.norm(at)
        up = np.array([0.0, 1.0, 0.0]) if abs(facing[1]) < 0.99 else np.array([0.0, 0.0, 1.0])
        right = np.cross(up, facing)
        right /= np.linalg.norm(right)
        above = np.cross(facing, right)
        area = self.width * self.height / (self.across * self.down)
        rows = []
        for i in range(self.across):
            for j in range(self.down):
                x = ((i + 0.5) / self.across - 0.5) * self.width
                y = ((j + 0.5) / self.down - 0.5) * self.height
                rows.append([*(at + right * x + above * y), *facing, area, math.sqrt(area) * SPREAD])
        return np.array(rows)


@dataclass(frozen=True)
class Surroundings:
    """Radiance from every direction: `middle` at the horizon, `rise` more of it straight up and less straight down."""

    middle: tuple[float, float, float]
    rise: tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Material:
    """What a surface is made of at each of its N points; `base` is three colours, scene-linear."""

    base: Sequence[NDArray[np.float32]]
    roughness: NDArray[np.float32]
    metallic: NDArray[np.float32]
    occlusion: NDArray[np.float32]
    coat: NDArray[np.float32]


@numba.njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _from_light(
    point: NDArray[np.float32],
    normal: NDArray[np.float32],
    eye: NDArray[np.float32],
    nv: np.float32,
    alpha: np.float32,
    patches: NDArray[np.float32],
    sums: NDArray[np.float32],
) -> None:
    """Sums over a light's patches (8 x P) of what all colours share: nl dw / pi, that times S, D V nl dw, that times S.

    Without a branch inside, so that patches are worked on several at a time.
    """
    one, zero, half = np.float32(1), np.float32(0), np.float32(0.5)
    tiny = np.float32(1e-7)
    plain = grazed = shine = rim = zero
    px, py, pz = point[0], point[1], point[2]
    nx, ny, nz = normal[0], normal[1], normal[2]
    vx, vy, vz = eye[0], eye[1], eye[2]
    smooth = alpha * alpha
    for p in range(patches.shape[1]):
        lx, ly, lz = patches[0, p] - px, patches[1, p] - py, patches[2, p] - pz
        square = lx * lx + ly * ly + lz * lz
        near = one / np.sqrt(square)
        lx, ly, lz = lx * near, ly * near, lz * near
        nl = max(nx * lx + ny * ly + nz * lz, zero)
        facing = max(-(lx * patches[3, p] + ly * patches[4, p] + lz * patches[5, p]), zero)
        power = nl * patches[6, p] * facing * near * near
        hx, hy, hz = lx + vx, ly + vy, lz + vz
        size = one / np.sqrt(hx * hx + hy * hy + hz * hz + tiny)
        nh = (nx * hx + ny * hy + nz * hz) * size
        x = max(one - (vx * hx + vy * hy + vz * hz) * size, zero)
        grazing = x * x * x * x * x
        # The half vector of a patch spreads by half of the patch's angle.
        spread = patches[7, p] * near * half
        wide = smooth + spread * spread
        d = nh * nh * (wide - one) + one
        distribution = wide / (np.float32(math.pi) * d * d)
        masked = nl * np.sqrt(nv * nv * (one - smooth) + smooth) + nv * np.sqrt(nl * nl * (one - smooth) + smooth)
        specular = distribution * half / (masked + tiny) * power
        plain += power
        grazed += power * grazing
        shine += specular
        rim += specular * grazing
    sums[0], sums[1] = plain / np.float32(math.pi), grazed / np.float32(math.pi)
    sums[2], sums[3] = shine, rim


@numba.njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _shade_points(
    first: int,
    last: int,
    positions: NDArray[np.float32],
    normals: NDArray[np.float32],
    base: NDArray[np.float32],
    factors: NDArray[np.float32],
    lights: NDArray[np.float32],
    radiances: Floats,
    surroundings: Floats,
    lobes: Floats,
    diffuse: Floats,
    distance: float,
    result: NDArray[np.float32],
) -> None:
    """Points `first` to `last`. `factors` are roughness, metallic, occlusion and coat; `lights` is L x 8 x P."""
    side = diffuse.shape[0]
    lobe, coat_lobe = np.zeros(6), np.zeros(6)
    eye, sums = np.zeros(3, np.float32), np.zeros((lights.shape[0], 4), np.float32)
    coats = np.zeros((lights.shape[0], 4), np.float32)
    for point in range(first, last):
        vx, vy, vz = -positions[point, 0], -positions[point, 1], distance - positions[point, 2]
        length = math.sqrt(vx * vx + vy * vy + vz * vz)
        eye[0], eye[1], eye[2] = vx / length, vy / length, vz / length
        nx, ny, nz = normals[point, 0], normals[point, 1], normals[point, 2]
        nv = max(nx * eye[0] + ny * eye[1] + nz * eye[2], 0.02)
        roughness = min(max(factors[0, point], LEAST_ROUGHNESS), 1.0)
        metallic = min(max(factors[1, point], 0.0), 1.0)
        occlusion = min(max(factors[2, point], 0.0), 1.0)
        coat_share = min(max(factors[3, point], 0.0), 1.0) * (DIELECTRIC + (1 - DIELECTRIC) * schlick(nv))
        coated = coat_share > 0.0
        for light in range(lights.shape[0]):
            _from_light(
                positions[point], normals[point], eye, np.float32(nv), np.float32(roughness * roughness), lights[light],
                sums[light],
            )  # fmt: skip
            if coated:
                _from_light(
                    positions[point], normals[point], eye, np.float32(nv), np.float32(COAT_ROUGHNESS * COAT_ROUGHNESS),
                    lights[light], coats[light],
                )  # fmt: skip
        looked_up(lobes, nv, roughness, lobe)
        if coated:
            looked_up(lobes, nv, COAT_ROUGHNESS, coat_lobe)
        y = min(max(nv * side - 0.5, 0.0), side - 1.001)
        i = int(y)
        fy = y - i
        d0 = diffuse[i, 0] * (1 - fy) + diffuse[i + 1, 0] * fy
        d1 = diffuse[i, 1] * (1 - fy) + diffuse[i + 1, 1] * fy
        d2 = diffuse[i, 2] * (1 - fy) + diffuse[i + 1, 2] * fy
        # How far the eye's own sideways direction, v - n (n.v), points up.
        ty = eye[1] - ny * nv
        for channel in range(3):
            colour = max(base[channel, point], 0.0)
            f0 = DIELECTRIC * (1 - metallic) + min(colour, 1.0) * metallic
            rest = 1 - f0
            own = colour * (1 - metallic) * rest
            middle, rise = surroundings[0, channel] * occlusion, surroundings[1, channel] * occlusion
            total = own * (middle * (1 - d0) + rise * ((2 / 3 - d1) * ny - d2 * ty))
            total += middle * (f0 * lobe[0] + rest * lobe[1])
            total += rise * ((f0 * lobe[2] + rest * lobe[3]) * ny + (f0 * lobe[4] + rest * lobe[5]) * ty)
            for light in range(lights.shape[0]):
                plain, grazed, shine, rim = sums[light, 0], sums[light, 1], sums[light, 2], sums[light, 3]
                total += radiances[light, channel] * (own * (plain - grazed) + f0 * shine + rest * rim)
            if coated:
                above = middle * coat_lobe[0] + rise * (coat_lobe[2] * ny + coat_lobe[4] * ty)
                for light in range(lights.shape[0]):
                    above += radiances[light, channel] * coats[light, 2]
                total = total * (1 - coat_share) + above * coat_share
            result[channel, point] = total


def shade(
    surface: Surface,
    normals: NDArray[np.float32],
    material: Material,
    lights: Sequence[AreaLight],
    surroundings: Surroundings,
) -> NDArray[np.float32]:
    """Scene-linear light that comes to the eye from each point of a surface, 3 x N.

    `normals` (N x 3) stand for the surface's own, with a normal map in them. Each light is the sum of its patches of
    D V F nl L dw; what comes from the surroundings is exact for their even rise from below to above.
    """
    count = surface.places.size
    result = np.empty((3, count), np.float32)
    base = np.stack(material.base)
    factors = np.stack([material.roughness, material.metallic, material.occlusion, material.coat])
    radiances = np.array([light.radiance for light in lights]).reshape(-1, 3)
    around = np.array([surroundings.middle, surroundings.rise])
    tables = lobe_tables()
    patches = _patches_of(lights)

    def part(first: int) -> None:
        _shade_points(
            first, min(first + POINTS_AT_ONCE, count), surface.positions, normals, base, factors, patches, radiances,
            around, *tables, DISTANCE, result,
        )  # fmt: skip

    spread(part, range(0, count, POINTS_AT_ONCE))
    return result


def _patches_of(lights: Sequence[AreaLight]) -> NDArray[np.float32]:
    """The patches of lights, L x 8 x P, P a multiple of what is worked on at once; those too many have no area."""
    rows = [light.patches() for light in lights]
    most = max((len(each) for each in rows), default=0)
    result = np.zeros((len(rows), 8, -(-most // AT_ONCE) * AT_ONCE), np.float32)
    for index, each in enumerate(rows):
        result[index, :, : len(each)] = each.T
        result[index, :3, len(each) :] = each[0, :3, None]
    return result


AT_ONCE = 8
"""Patches that wide registers hold."""
POINTS_AT_ONCE = 8192
