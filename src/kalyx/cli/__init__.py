"""The command line: argparse in, records out to text or JSON. One module a command."""
