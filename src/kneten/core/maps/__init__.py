"""Pictures laid on a mesh by its UVs: what finer clay has, told to coarser."""
