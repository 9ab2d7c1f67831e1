"""Texts for hovering: always escaped, so that <module> is a name and not a tag."""

from __future__ import annotations

import html


def tip(text: str | None) -> str:
    """A text that wraps and is shown verbatim; nothing for nothing.

    >>> tip("<module>, <0.1 %")
    "<p style='white-space: pre-wrap'>&lt;module&gt;, &lt;0.1 %</p>"
    """
    return f"<p style='white-space: pre-wrap'>{html.escape(text)}</p>" if text else ""
