"""The Desk: predict a part from its geometry, size it, draw it, make it."""
