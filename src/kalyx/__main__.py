"""``python -m kalyx``."""

from kalyx.cli.start import main

if __name__ == "__main__":
    main()
