"""Lists: pages, search over everything, saved filters, and exports."""
