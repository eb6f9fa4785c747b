"""The demo song: made by the program itself, the same everywhere."""
