"""What a review covers, frozen with its facts."""
