"""Orders of stages: swaps, searches, and requests that tell orders apart."""
