"""Reviews: when they recur, who is asked, what is recommended, what may be decided, and the evidence that is left."""
