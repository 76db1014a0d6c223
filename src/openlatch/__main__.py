"""The program: ``openlatch``, or ``python -m openlatch``."""

from __future__ import annotations

from openlatch.imports import many_imports


def main() -> None:
    """Run the program with the arguments of this process."""
    with many_imports():
        from openlatch.cli.main import main as run
    run()


if __name__ == "__main__":
    main()
