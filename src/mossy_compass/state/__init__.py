"""What devices remember of the packets that passed: values in, values out."""
