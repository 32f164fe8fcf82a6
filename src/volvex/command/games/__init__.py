"""Commands about game packs: what is known of a game, to be shared."""
