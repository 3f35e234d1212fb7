"""Reading and writing of open formats, one module per family, and the store of decoded planes."""
