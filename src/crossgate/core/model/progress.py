"""How long work reports its progress, without knowing who listens."""

from __future__ import annotations

from collections.abc import Callable

Tell = Callable[[int, int], None]
"""Is told, now and then, how many steps are done, and of how many; 0 where that is not known."""
