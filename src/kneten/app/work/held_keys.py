"""What keys that are held do to the tool in hand."""

from __future__ import annotations

from dataclasses import replace

from kneten.core.brushes.tool import BrushSettings, Tool


def with_keys(
    tool: Tool, settings: BrushSettings, smooth_tool: Tool, smooth: BrushSettings, keys: tuple[bool, bool]
) -> tuple[Tool, BrushSettings]:
    """Tool and settings while (reverse, smooth) keys are held."""
    reverse, smoothing = keys
    if smoothing:
        return smooth_tool, replace(smooth, size=settings.size, size_on_model=settings.size_on_model)
    if reverse:
        return tool, replace(settings, reverse=not settings.reverse)
    return tool, settings
