"""Rendering: results to terminal and JSON. Renderers take values, a width and a colour setting."""
