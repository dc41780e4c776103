"""What is run beside the product: benchmarks, and the documents that are made from the source."""
