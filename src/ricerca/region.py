"""Names a part of a program, so that it is an item of its own where the program is recorded.

    from ricerca.region import region

    with region("fit"):
        ...

Without a recorder it does next to nothing. The file stands alone (Python 3.9 and later, nothing
imported but sys): copy it beside a program whose interpreter has no Ricerca.
"""

import sys

__all__ = ["region"]


class region:  # noqa: N801 - it reads as a statement
    """What runs inside a ``with`` statement belongs to the region of this name."""

    __slots__ = ("name",)

    def __init__(self, name: str) -> None:
        self.name = name

    def __enter__(self) -> "region":
        sys.audit("ricerca.region", self.name)
        return self

    def __exit__(self, *_: object) -> None:
        sys.audit("ricerca.region.end", self.name)
