"""Where each word of a script was spoken: the script spoken by machine, the recording followed along it."""
