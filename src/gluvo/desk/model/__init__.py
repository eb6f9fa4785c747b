"""What stands between the document and the screens."""
