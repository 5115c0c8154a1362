"""The linked steps: graph, results, history, saving, records."""
