"""Kneten: a clay studio for high-detail characters and creatures."""

__version__ = "0.1.0"
