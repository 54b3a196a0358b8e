"""Runs: carrying out a docket, and putting a run back. The one engine for whatever changes a target."""
