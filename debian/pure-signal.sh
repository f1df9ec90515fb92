#!/bin/sh
# Starts Pure Signal with the Python packages that come with it.
library=${PURE_SIGNAL_LIBRARY:-/usr/lib/pure-signal}
PYTHONPATH=$library${PYTHONPATH:+:$PYTHONPATH}
export PYTHONPATH
exec /usr/bin/python3 -s -m puresignal.cli "$@"
