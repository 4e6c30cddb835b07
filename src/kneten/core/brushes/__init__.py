"""One file per tool: its kernel and its defaults. `toolbox` lists them all."""
