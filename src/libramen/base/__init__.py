"""What every room stands on: errors, units, times, tables, files; nothing of traces and studies."""
