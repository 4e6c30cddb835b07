"""Colour: how it is told in numbers, mixed, kept on layers and laid by strokes."""
