"""Records that are kept by hand: making, editing, archiving, removing and merging them."""
