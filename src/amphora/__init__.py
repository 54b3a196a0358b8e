"""Amphora moves applications between environments and finishes the job."""

__version__ = "0.1.0"
