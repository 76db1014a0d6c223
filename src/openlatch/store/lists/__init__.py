"""Lists: filtering, sorting and paging, and the columns of each."""
