"""``python -m dunechest.transfer`` is a helper process; see `worker`."""

import gc
import os

if __name__ == "__main__":
    # What a helper makes lives in no rings.
    gc.disable()
    from dunechest.transfer.worker import main

    # All is sent and flushed. Taking the interpreter apart would keep whoever waits for nothing.
    os._exit(main())
