"""The window: stages, rack, viewport, cards, milestones. The only room that knows Qt."""
