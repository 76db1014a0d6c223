"""The computation: plain values in, plain values out. No clock, no input or output, no framework."""
