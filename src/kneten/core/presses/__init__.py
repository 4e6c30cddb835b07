"""Presses of Kneten's own, made by code when they are first wanted."""
