"""Outside systems that ship with Open Latch for the demo and the tests."""
