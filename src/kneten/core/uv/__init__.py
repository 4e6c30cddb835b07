"""Clay laid flat: islands cut along seams, unwrapped, measured and packed onto a picture."""
