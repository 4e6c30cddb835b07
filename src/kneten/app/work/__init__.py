"""The running program behind the window: project, commands, long work, notices."""
