"""The editor of the Split: its crossovers under the spectrum, and a column for each band."""
