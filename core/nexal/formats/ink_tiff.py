"""TIFF files of inks: OpenImageIO would write them with 8 bit only, so tifffile does."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from numpy.typing import NDArray

from nexal.picture import INKS


def write_ink_tiff(
    path: Path,
    pixels: NDArray[Any],
    description: str,
    *,
    software: str,
    compression: str,
    straight: bool,
    profile: bytes | None,
) -> None:
    """Write C, M, Y, K and, where there is a fifth channel, alpha: `pixels` H x W x 4 or 5, uint8, uint16 or float32.

    `straight` says which kind of alpha it is; `profile` is the ICC profile of the inks. Raises OSError.
    Reference: *TIFF Revision 6.0*, section 16: CMYK images.
    """
    import tifffile

    alpha = ["unassalpha" if straight else "assocalpha"] * (pixels.shape[-1] - len(INKS))
    tifffile.imwrite(
        path,
        pixels,
        photometric="separated",
        planarconfig="contig",
        extrasamples=alpha or None,
        compression={"none": None, "lzw": "lzw", "zip": "zlib"}[compression],
        predictor=compression != "none" and pixels.dtype.kind == "u",
        description=description,
        software=software,
        iccprofile=profile,
        metadata=None,
    )
