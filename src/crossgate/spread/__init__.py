"""Work spread over processes: here, or on the machines of a Dask cluster."""
