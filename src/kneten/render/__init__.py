"""Pictures of the clay with OpenGL 3.3, in a window's context or without any window."""
