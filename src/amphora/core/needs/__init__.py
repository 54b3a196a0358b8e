"""Needs: what a package asks of a target, and how things are matched and named."""
