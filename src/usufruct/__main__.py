"""`python -m usufruct`, and what the console command calls."""

import sys


def main() -> None:
    """Run the command line and end with its exit code."""
    from usufruct.cli.main import run

    sys.exit(run(sys.argv[1:]))


if __name__ == "__main__":
    main()
