"""Run the command line as ``python -m patient_usher``."""

from patient_usher.cli import main

if __name__ == "__main__":
    raise SystemExit(main())
