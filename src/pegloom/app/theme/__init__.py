"""Colours, font, style sheet and icons."""

from pegloom.app.theme.theme import INK, LINEN, Theme, apply_theme, current, icon, put_icon, renew_icons

__all__ = ["INK", "LINEN", "Theme", "apply_theme", "current", "icon", "put_icon", "renew_icons"]
