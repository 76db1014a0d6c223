"""Figures over time: what moved risk, departures, revocations, reviews, exposures and unrecorded access."""
