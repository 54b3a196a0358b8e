"""The command line: parse, call one function, render, return a code."""
