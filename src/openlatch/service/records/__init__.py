"""Records edited by hand: made, changed, archived, removed, merged."""
