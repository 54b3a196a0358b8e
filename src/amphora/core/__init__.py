"""The pure heart: plain values in, plain values out; no I/O, no clock, no interface."""
