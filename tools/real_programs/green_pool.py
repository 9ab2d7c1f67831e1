import gevent
from gevent.pool import Pool
from gevent.queue import Queue

done = 0


def step(n):
    global done
    done += 1
    return n + 1


def work(n):
    total = 0
    for i in range(20):
        total += step(i)
        gevent.sleep(0)
        total += step(i)
    return total


queue = Queue()


def talk():
    for n in range(100):
        queue.put(n)


def hear():
    return sum(step(queue.get()) for _ in range(100))


pool = Pool(20)
print(sum(pool.map(work, range(60))))
jobs = [gevent.spawn(talk), gevent.spawn(hear)]
gevent.joinall(jobs)
print(jobs[1].value, f"\nCOUNT step={done}\nCOUNT work=60")
