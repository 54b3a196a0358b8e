"""Files into which people type."""

from __future__ import annotations

from typing import Final

TYPED: Final = "utf-8-sig"
"""How their text is read: UTF-8, and the mark that some editors put before it is no part of it."""
