"""WebDAV and CalDAV servers with access control."""
