"""Game descriptions and game packs: what is known of a game."""
