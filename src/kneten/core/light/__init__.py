"""Light: lamps, skies, light sets. Numbers only; `render/` draws with them."""
