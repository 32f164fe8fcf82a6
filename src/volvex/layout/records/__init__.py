"""Fields and records to and from bytes: values, columns, and generated code for many records at once."""
