"""Why an import fails: one file a cause. ``catalogue`` says in which tier each stands."""
