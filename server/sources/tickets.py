"""Leave to send a large body: given to who may import into a shot, looked at before the body is read."""

import re
import shutil

from django.conf import settings
from django.core import signing

from config.errors import Refused
from nexal.errors import DiskError

SALT = "nexal-upload"
MAX_AGE = 15 * 60
"""Seconds between a ticket and the head of the request that it is for."""
FORM_BYTES = 1 << 20
"""What a form takes round its files."""
RESERVE_BYTES = 256 << 20
"""Room that stays free on the disk for everything else."""
UPLOAD = re.compile(r"/api/shots/(\d+)/sources(/reassembled|/manifest|/\d+/frames)?")


def ticket(shot: int, person: int, size: int) -> str:
    """Leave to send `size` bytes of files into a shot. Raises Refused where that is too much, and DiskError."""
    if size > settings.NEXAL_UPLOAD_BYTES:
        raise too_large()
    free = shutil.disk_usage(settings.MEDIA_ROOT.parent).free
    # The file is kept, and unpacked beside it.
    if free < 2 * size + RESERVE_BYTES:
        raise DiskError("this cannot be imported", needed=2 * size + RESERVE_BYTES)
    return signing.dumps([shot, person, size], salt=SALT, compress=True)


def too_large(where: str = "") -> Refused:
    return Refused(
        413,
        "too_large",
        f"the file is larger than {settings.NEXAL_UPLOAD_BYTES / 1e9:.1f} GB",
        where=where,
        remedy="compress it, or import fewer channels",
    )


def largest_body(method: str, path: str, given: str) -> int:
    """Bytes that the body of a request may have, by the ticket that it carries."""
    most = int(settings.DATA_UPLOAD_MAX_MEMORY_SIZE or 0) + FORM_BYTES
    found = UPLOAD.fullmatch(path)
    if method != "POST" or not found or not given:
        return most
    try:
        shot, _, size = signing.loads(given, salt=SALT, max_age=MAX_AGE)
    except signing.BadSignature:
        return most
    return max(most, int(size) + FORM_BYTES) if shot == int(found[1]) else most
