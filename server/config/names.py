"""Names that people give."""

from config.errors import Refused


def plain_name(name: str) -> str:
    """A name without what surrounds it, its words one space apart. Raises Refused where nothing is left of it."""
    plain = " ".join(name.split())
    if not plain:
        raise Refused(422, "name", "a name is wanted", where="name", remedy="give one")
    return plain
