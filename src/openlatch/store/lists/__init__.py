"""The lists: how they are filtered, sorted and paged, and the columns of each."""
