"""Pieces of work done from start to end through the real window: `python -m tests.works [NAME ...] [--pictures FOLDER]`.

Each is a module with a docstring that says what is made, and `work(sitting)`, which makes it with commands, strokes and
cards only. What comes out is judged from outside.
"""
