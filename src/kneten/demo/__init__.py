"""The demo world: the ferry folk of Lake Hallen, made by Kneten's own operations."""
