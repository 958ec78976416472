"""The made-up harbour: pipelines, traces and a recording that `usher demo` runs."""
