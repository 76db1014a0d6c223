"""Reviews: schedules and what happens open rounds, people decide their items, and what was decided is carried out."""
