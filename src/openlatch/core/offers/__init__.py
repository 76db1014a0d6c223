"""The wording of offers."""
