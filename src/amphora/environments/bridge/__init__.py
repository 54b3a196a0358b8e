"""Environments by a bridge sheet: a description of a platform's REST interface, without programming."""
