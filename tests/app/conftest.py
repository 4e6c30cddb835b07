"""The window's graphics are set up before the first window."""

from kneten.app.main import prepare_graphics

prepare_graphics()
