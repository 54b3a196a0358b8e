"""Environments: the protocol that every adapter speaks, and one module or package per adapter."""
