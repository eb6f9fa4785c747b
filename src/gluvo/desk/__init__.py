"""The window. Everything that needs Qt is here."""
