"""Coarsen: makes the mesh sparser under the brush, up to the detail size."""

from __future__ import annotations

from dataclasses import replace

from kneten.core.brushes import refine

TOOL = replace(
    refine.TOOL,
    key="coarsen",
    name="Coarsen",
    does="Makes the mesh sparser under the brush, up to the detail size",
    density="coarsen",
)
