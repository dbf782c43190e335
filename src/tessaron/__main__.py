"""`python -m tessaron` is the command `tessaron`."""

from tessaron.cli import main

if __name__ == "__main__":
    main()
