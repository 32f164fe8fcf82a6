"""The kinds of assets: a file each, see `volvex.asset.kind`."""
