"""Mail servers: IMAP with access control lists."""
