"""``python -m mossy_compass`` is ``mossy``."""

from mossy_compass.cli.main import run

if __name__ == "__main__":
    run()
