"""`foldkit`, and `python -m foldkit`."""

import sys


def run() -> None:
    """Run the command line, and end as it does where Ctrl-C comes before its commands are read."""
    try:
        from foldkit.cli import main
    except KeyboardInterrupt:
        sys.stderr.write("foldkit: interrupted\n")
        sys.exit(130)
    main()


if __name__ == "__main__":
    run()
