"""Reviews: schedules and events open rounds, people decide their items, and decisions are carried out."""
