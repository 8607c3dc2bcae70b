"""``python -m fixed_anchor``: the same as the command ``fixed-anchor``."""

from fixed_anchor.cli import main

if __name__ == "__main__":
    main()
