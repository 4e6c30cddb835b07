"""Recipes: clay that is still made from a few numbers and can be made anew from others."""
