"""Security events that other services tell of people (OpenID Shared Signals Framework): received, and acted on."""
