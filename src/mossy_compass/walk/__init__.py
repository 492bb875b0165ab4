"""One packet, hop by hop, with the ruling of each stage: the executor that explains."""
