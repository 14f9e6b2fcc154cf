"""Numeric kernels: arrays and numbers in, arrays and state out."""
