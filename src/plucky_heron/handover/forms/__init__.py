"""The forms a policy is handed over in, generated from the same numbers: one file a form."""
