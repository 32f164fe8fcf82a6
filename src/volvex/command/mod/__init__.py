"""Commands about mods: made, shared, combined."""
