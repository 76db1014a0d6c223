"""Services that keep users, groups and entitlements by SCIM 2.0."""
