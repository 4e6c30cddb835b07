"""Posing: limbs of clay found, bent along their middle, and brought back."""
