"""The command: ``tallysteps apply [FOLDER]`` brings the database at DATABASE_URL up to date."""

import argparse
import os

import envleaf
import tallysteps


def main():
    parser = argparse.ArgumentParser(prog="tallysteps")
    parser.add_argument("command", choices=["apply"])
    parser.add_argument("folder", nargs="?", default="migrations")
    options = parser.parse_args()
    envleaf.load()
    tallysteps.apply(os.environ["DATABASE_URL"], options.folder)
