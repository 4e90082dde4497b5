#!/usr/bin/env python3
"""A worker for Humble Mule in Python, with the standard library alone.

    python3 docs/examples/worker.py

HMULE_SERVER tells where the service is, and HMULE_TOKEN the token it asks for.

It takes jobs of three tasks from the queue common, runs them in two slots, renews
their leases and keeps outcomes while the service is away. It ends a handler when its
job is cancelled, its lease is lost or its time is over; it drains and leaves when an
operator asks it to; and on SIGTERM it takes no more, lets its handlers finish, settles
what they return and says good-bye.
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
TOKEN = os.environ.get("HMULE_TOKEN", "")
SLOTS = 2
LEASE = int(os.environ.get("WORKER_LEASE", "45"))  # seconds; renewed at a third of it
POLL = 20  # seconds a lease call may wait
GRACE = 25  # seconds that handlers may go on when the worker ends


class GiveUp(Exception):
    """The job can never succeed: it becomes a dead letter at once."""


class Ended(Exception):
    """The handler was asked to end: its job was cancelled, or its time is over."""


class Running:
    """A job that a handler runs, and how the handler hears that it is to end."""

    def __init__(self, lease):
        self.token, self.job = lease["token"], lease["job"]
        self.why = None
        self.ended = threading.Event()

    def end(self, why):
        self.why = self.why or why
        self.ended.set()

    def sleep(self, seconds):
        """Waits, but no longer than the handler may run."""
        if self.ended.wait(seconds):
            raise Ended(self.why)


# --- the handlers: payload in, result out; an exception is a failed attempt ---

def greet(payload, running):
    return "Hello, " + payload["name"]


def nap(payload, running):
    running.sleep(float(payload["seconds"]))
    return "rested"


def measure(payload, running):
    return float(payload["depth"])


HANDLERS = {"greet": greet, "nap": nap, "measure": measure}

# --- the worker ---

WORKER = uuid.uuid4().hex
stopping = threading.Event()  # the process is to end
wanted = "run"  # what the service wants of the worker
lock = threading.Condition()
running = {}  # token -> Running; its handler runs
outcomes = {}  # token -> settlement that the service does not know yet
PASSING = (429, 500, 502, 503, 504, 507)  # the same call may succeed later


def log(message, **facts):
    print(message, *(f"{k}={v}" for k, v in facts.items()), file=sys.stderr, flush=True)


def call(method, path, body=None, key=None, timeout=10):
    """One call; an answer of 4xx or 5xx raises HTTPError, no answer URLError or OSError."""
    request = urllib.request.Request(SERVER + path, method=method)
    if body is not None:
        request.data = json.dumps(body).encode()
        request.add_header("Content-Type", "application/json")
    if TOKEN:
        request.add_header("Authorization", "Bearer " + TOKEN)
    if key:
        request.add_header("Idempotency-Key", key)
    with urllib.request.urlopen(request, timeout=timeout) as answer:
        text = answer.read()
        return json.loads(text) if text else None


def passing(e):
    """Whether a call may succeed later as it is. A token that is no good may be good again."""
    return not isinstance(e, urllib.error.HTTPError) or e.code in PASSING or e.code in (401, 403)


def told(e):
    return f"{e} {e.read().decode(errors='replace')}" if isinstance(e, urllib.error.HTTPError) else e


def describe():
    return {
        "name": "python-example", "host": socket.gethostname(), "pid": os.getpid(), "slots": SLOTS,
        "queues": ["common"], "tasks": sorted(HANDLERS), "draining": stopping.is_set(),
    }


def kept(result):
    """The result or, where JSON has no word for it, why it is not kept: the work is done."""
    try:
        text = json.dumps(result, allow_nan=False)
    except (ValueError, TypeError, RecursionError) as e:
        return {"result_dropped": {"bytes": 0, "why": str(e)}}
    if len(text.encode()) > 65536:
        return {"result_dropped": {"bytes": len(text.encode()), "why": "is longer than 64 KiB"}}
    return result


def run(one):
    """Runs one handler and keeps its outcome."""
    job, began = one.job, time.monotonic()
    timeout = None
    if job.get("timeout_ms"):
        timeout = threading.Timer(job["timeout_ms"] / 1000, one.end, ["timeout"])
        timeout.daemon = True
        timeout.start()
    try:
        settlement = {"outcome": "done", "result": kept(HANDLERS[job["task"]](job.get("payload"), one))}
    except GiveUp as e:
        settlement = {"outcome": "give_up", "error": {"type": "gave_up", "message": str(e)}}
    except Ended as e:
        settlement = {"outcome": "released"} if one.why == "draining" else {"outcome": "failed", "error": {"type": one.why, "message": f"the handler was ended: {e}"}}
    except Exception as e:
        settlement = {"outcome": "failed", "error": {"type": type(e).__name__, "message": str(e)[:8000], "stack": traceback.format_exc()[-30000:]}}
    if timeout:
        timeout.cancel()
    settlement |= {"token": one.token, "run_ms": int((time.monotonic() - began) * 1000)}
    with lock:
        del running[one.token]
        outcomes[one.token] = settlement
        lock.notify_all()
    log(settlement["outcome"], job=job["id"], task=job["task"], took_ms=settlement["run_ms"])


def begin(leases):
    """Starts the jobs of leases; one that is known already is passed over."""
    for lease in leases:
        with lock:
            if lease["token"] in running or lease["token"] in outcomes:
                continue
            one = running[lease["token"]] = Running(lease)
        log("taken", job=lease["job"]["id"], task=lease["job"]["task"], attempt=lease["job"]["attempt"])
        threading.Thread(target=run, args=(one,), daemon=True).start()


def obey(want):
    global wanted
    with lock:
        if want != wanted:
            log("the service asks the worker to " + want)
        wanted = want
        lock.notify_all()
    if want == "leave":
        stopping.set()


def take():
    """Asks for as many jobs as slots are free. A call whose answer was lost is made
    again under the same key, and brings the same leases."""
    key = body = None
    while not stopping.is_set():
        with lock:
            lock.wait_for(lambda: stopping.is_set() or wanted == "run" and len(running) < SLOTS)
            free = SLOTS - len(running)
        if stopping.is_set():
            return
        if key is None:
            key = uuid.uuid4().hex
            body = {"worker": WORKER, "queues": ["common"], "tasks": sorted(HANDLERS), "limit": free, "wait": f"{POLL}s", "lease": f"{LEASE}s"}
        try:
            answer = call("POST", "/v1/leases", body, key, timeout=POLL + 10)
        except (urllib.error.URLError, OSError) as e:
            if not passing(e):
                key = None
            log("no jobs could be taken; asked again in a second", error=told(e))
            stopping.wait(1)
            continue
        key = None
        begin(answer["leases"])
        obey(answer["wanted"])


def listen():
    """Listens to what the service wants of the worker, and which jobs are cancelled."""
    while True:
        try:
            answer = call("GET", f"/v1/workers/{WORKER}/wanted?wait={POLL}s&doing={wanted}", timeout=POLL + 10)
        except urllib.error.HTTPError as e:
            if e.code == 404:  # the service has started anew
                try:
                    call("PUT", f"/v1/workers/{WORKER}", describe())
                    continue
                except (urllib.error.URLError, OSError):
                    pass
            time.sleep(1)
            continue
        except (urllib.error.URLError, OSError):
            time.sleep(1)
            continue
        with lock:
            for token in answer.get("cancelled", []):
                if token in running:
                    running[token].end("cancelled")
        obey(answer["wanted"])


def renew():
    """Renews every lease that is not settled. Until then it is ours to keep. What else
    the service says is leased to this worker is taken up: the answer was lost."""
    while True:
        time.sleep(LEASE / 3)
        with lock:
            tokens = [*running, *outcomes]
        try:
            answer = call("POST", "/v1/leases/extend", {"worker": WORKER, "leases": [{"token": t} for t in tokens]})
        except (urllib.error.URLError, OSError) as e:
            log("leases could not be renewed; handlers run on", error=told(e))
            continue
        with lock:
            for result in answer["results"]:
                if result["status"] != "ok" and result["token"] in running:
                    log("a lease is " + result["status"], token=result["token"])
                    running[result["token"]].end("cancelled" if result["status"] == "cancelled" else "lease_lost")
        begin(answer.get("leases", []))


def settle():
    """Tells the service how attempts have ended; what cannot be told is kept. The
    same settle again harms nothing."""
    while True:
        with lock:
            lock.wait_for(lambda: outcomes)
            items = list(outcomes.values())[:100]
        try:
            answer = call("POST", "/v1/leases/settle", {"leases": items})
        except (urllib.error.URLError, OSError) as e:
            log("the service refused this pool outcomes; they are kept", error=told(e))
            if not passing(e):  # told simpler, so that none harms the others
                with lock:
                    for item in items:
                        outcomes[item["token"]] = {"token": item["token"], "outcome": "failed", "error": {"type": "outcome", "message": str(e)}}
            time.sleep(1)
            continue
        with lock:
            for item, result in zip(items, answer["results"]):
                if result["status"] == "refused" and item["outcome"] != "failed":
                    outcomes[item["token"]] = {"token": item["token"], "outcome": "failed", "error": {"type": "outcome", "message": json.dumps(result.get("errors"))}}
                    continue
                outcomes.pop(item["token"], None)
                if result["status"] != "ok":
                    log("an outcome is " + result["status"], token=item["token"], errors=result.get("errors"))
            lock.notify_all()


def main():
    signal.signal(signal.SIGTERM, lambda *_: stopping.set())
    signal.signal(signal.SIGINT, lambda *_: stopping.set())
    while not stopping.is_set():
        try:
            obey(call("PUT", f"/v1/workers/{WORKER}", describe())["wanted"])
            break
        except urllib.error.HTTPError as e:
            if e.code not in PASSING:  # this cannot heal by itself
                log("the service refused this pool this worker", error=told(e))
                sys.exit(1)
        except (urllib.error.URLError, OSError) as e:
            log("the service does not answer; asked again in a second", error=e)
        stopping.wait(1)
    log("worker starts", id=WORKER, tasks=sorted(HANDLERS))
    for part in (take, listen, renew, settle):
        threading.Thread(target=part, daemon=True).start()
    while not stopping.wait(0.5):
        pass  # a signal that another thread has caught is seen here
    try:
        call("PUT", f"/v1/workers/{WORKER}", describe())  # answers the call that waits for jobs
    except (urllib.error.URLError, OSError):
        pass
    with lock:
        lock.notify_all()
        if not lock.wait_for(lambda: not running, timeout=GRACE):
            for one in running.values():
                one.end("draining")
        settled = lock.wait_for(lambda: not running and not outcomes, timeout=GRACE)
    if not settled:
        log("ended with jobs unsettled; they run again when their leases have ended", jobs=len(running) + len(outcomes))
        sys.exit(1)
    try:
        call("DELETE", f"/v1/workers/{WORKER}")
    except (urllib.error.URLError, OSError):
        pass
    log("worker ends")


if __name__ == "__main__":
    main()
