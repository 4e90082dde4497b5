#!/usr/bin/env python3
"""A worker for Humble Mule in Python, with the standard library alone.

    python3 docs/examples/worker.py            # HMULE_SERVER tells where the service is

It takes jobs of two tasks from the queue common, runs them in two slots, renews
their leases, keeps outcomes while the service is away, and on SIGTERM takes no
more, lets its handlers finish and settles what they return.
"""
import json
import os
import signal
import socket
import sys
import threading
import time
import traceback
import urllib.error
import urllib.request
import uuid

SERVER = os.environ.get("HMULE_SERVER", "http://127.0.0.1:6853")
SLOTS = 2
LEASE = 45  # seconds; renewed at a third of it
POLL = 20  # seconds a lease call may wait


class GiveUp(Exception):
    """The job can never succeed: it becomes a dead letter at once."""


# --- the handlers: payload in, result out; an exception is a failed attempt ---

def greet(payload):
    return "Hello, " + payload["name"]


def nap(payload):
    time.sleep(float(payload["seconds"]))
    return "rested"


HANDLERS = {"greet": greet, "nap": nap}

# --- the worker ---

WORKER = uuid.uuid4().hex
stopping = threading.Event()
lock = threading.Condition()
running = {}  # token -> job; its handler runs
outcomes = {}  # token -> settlement that the service does not know yet


def log(message, **facts):
    print(message, *(f"{k}={v}" for k, v in facts.items()), file=sys.stderr, flush=True)


def call(method, path, body=None, key=None, timeout=10):
    """One call; an answer of 4xx raises HTTPError, no answer URLError or OSError."""
    request = urllib.request.Request(SERVER + path, method=method)
    if body is not None:
        request.data = json.dumps(body).encode()
        request.add_header("Content-Type", "application/json")
    if key:
        request.add_header("Idempotency-Key", key)
    with urllib.request.urlopen(request, timeout=timeout) as answer:
        return json.load(answer)


def register():
    call("PUT", f"/v1/workers/{WORKER}", {
        "name": "python-example", "host": socket.gethostname(), "pid": os.getpid(), "slots": SLOTS,
        "queues": ["common"], "tasks": sorted(HANDLERS),
    })


def run(lease):
    """Runs one handler and keeps its outcome."""
    token, job, began = lease["token"], lease["job"], time.monotonic()
    try:
        settlement = {"outcome": "done", "result": HANDLERS[job["task"]](job.get("payload"))}
    except GiveUp as e:
        settlement = {"outcome": "give_up", "error": {"type": "gave_up", "message": str(e)}}
    except Exception as e:
        settlement = {"outcome": "failed", "error": {"type": type(e).__name__, "message": str(e), "stack": traceback.format_exc()}}
    settlement |= {"token": token, "run_ms": int((time.monotonic() - began) * 1000)}
    with lock:
        del running[token]
        outcomes[token] = settlement
        lock.notify_all()
    log(settlement["outcome"], job=job["id"], task=job["task"], took_ms=settlement["run_ms"])


def take():
    """Asks for as many jobs as slots are free. A call whose answer was lost is made
    again under the same key, and brings the same leases."""
    key = body = None
    while not stopping.is_set():
        with lock:
            lock.wait_for(lambda: stopping.is_set() or len(running) < SLOTS)
            free = SLOTS - len(running)
        if stopping.is_set():
            return
        if key is None:
            key = uuid.uuid4().hex
            body = {"worker": WORKER, "queues": ["common"], "tasks": sorted(HANDLERS), "limit": free, "wait": f"{POLL}s", "lease": f"{LEASE}s"}
        try:
            answer = call("POST", "/v1/leases", body, key, timeout=POLL + 10)
        except (urllib.error.URLError, OSError) as e:
            log("no jobs could be taken; asked again in a second", error=e)
            stopping.wait(1)
            continue
        key = None
        for lease in answer["leases"]:
            with lock:
                running[lease["token"]] = lease["job"]
            log("taken", job=lease["job"]["id"], task=lease["job"]["task"], attempt=lease["job"]["attempt"])
            threading.Thread(target=run, args=(lease,), daemon=True).start()


def renew():
    """Renews every lease that is not settled. Until then it is ours to keep."""
    while True:
        time.sleep(LEASE / 3)
        with lock:
            tokens = [*running, *outcomes]
        if not tokens:
            continue
        try:
            answer = call("POST", "/v1/leases/extend", {"leases": [{"token": t} for t in tokens]})
        except (urllib.error.URLError, OSError) as e:
            log("leases could not be renewed; handlers run on", error=e)
            continue
        for result in answer["results"]:
            if result["status"] != "ok":
                log("a lease is " + result["status"], token=result["token"])


def settle():
    """Tells the service how attempts have ended; what cannot be told is kept. The
    same settle again harms nothing."""
    while True:
        with lock:
            lock.wait_for(lambda: outcomes)
            items = list(outcomes.values())[:1000]
        try:
            answer = call("POST", "/v1/leases/settle", {"leases": items})
        except (urllib.error.URLError, OSError) as e:
            log("the service does not take outcomes; they are kept", error=e)
            time.sleep(1)
            continue
        with lock:
            for result in answer["results"]:
                del outcomes[result["token"]]
                if result["status"] != "ok":
                    log("an outcome is " + result["status"], token=result["token"], errors=result.get("errors"))
            lock.notify_all()


def main():
    signal.signal(signal.SIGTERM, lambda *_: stopping.set())
    signal.signal(signal.SIGINT, lambda *_: stopping.set())
    while not stopping.is_set():
        try:
            register()
            break
        except (urllib.error.URLError, OSError) as e:
            log("the service does not answer; asked again in a second", error=e)
            stopping.wait(1)
    log("worker starts", id=WORKER, tasks=sorted(HANDLERS))
    for part in (take, renew, settle):
        threading.Thread(target=part, daemon=True).start()
    while not stopping.wait(0.5):
        pass  # a signal that another thread has caught is seen here
    with lock:
        lock.notify_all()
        if not lock.wait_for(lambda: not running and not outcomes, timeout=25):
            log("ended with jobs unsettled; they run again when their leases have ended", jobs=len(running) + len(outcomes))
            sys.exit(1)
    log("worker ends")


if __name__ == "__main__":
    main()
