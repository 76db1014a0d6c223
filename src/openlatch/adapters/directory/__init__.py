"""Directories over LDAP."""
