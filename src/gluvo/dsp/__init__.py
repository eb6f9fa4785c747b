"""Kernels: arrays in, arrays out. Audio is ``(frames, 2)`` float64, C-contiguous, full scale ±1."""
