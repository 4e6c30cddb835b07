"""The window: stages, rack, viewport, cards, milestones. The only room that knows Qt."""

from kneten.app.steady import install

# Before any class is made of Qt's.
install()
