"""``python -m mossy_compass`` is ``mossy``."""

from mossy_compass.cli.start import run

if __name__ == "__main__":
    run()
