"""The project: parts, undo, milestones, the project file and the journal."""
