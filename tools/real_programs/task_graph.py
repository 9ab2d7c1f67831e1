import threading
import dask

lock, made = threading.Lock(), 0


@dask.delayed
def square(n):
    global made
    with lock:
        made += 1
    return n * n


@dask.delayed
def add(values):
    return sum(values)


print(add([square(n) for n in range(200)]).compute(scheduler="threads", num_workers=4))
print(f"COUNT square={made}")
