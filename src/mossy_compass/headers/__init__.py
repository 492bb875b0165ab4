"""Sets of header values. Today: sorted runs of integers; exact sets of whole headers come with the proofs."""
