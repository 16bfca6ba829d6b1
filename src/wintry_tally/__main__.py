"""`python -m wintry_tally`."""

from wintry_tally.cli.main import main

if __name__ == "__main__":
    main()
