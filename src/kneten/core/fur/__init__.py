"""Fur: fine fibres over clay, that follow combed leads."""
