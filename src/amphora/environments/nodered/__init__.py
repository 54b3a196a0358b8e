"""Adapter to Node-RED, an open-source flow runtime, through its admin HTTP API."""
