"""Fields, quantities, theme: what everything that is shown is made of."""
