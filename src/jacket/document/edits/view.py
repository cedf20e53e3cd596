"""What is looked at: shown and hidden objects. No steps of their own."""

from __future__ import annotations

from dataclasses import replace

from jacket.document.document import Document


def set_visible(document: Document, object_id: int, visible: bool) -> None:
    """Show or hide an object; no step of its own."""
    s = document.state
    document.amend(
        s.with_(
            sources=tuple(replace(o, visible=visible) if o.id == object_id else o for o in s.sources),
            jackets=tuple(replace(o, visible=visible) if o.id == object_id else o for o in s.jackets),
        )
    )
