"""Security events that other services report about people (OpenID Shared Signals Framework): received, and acted on."""
