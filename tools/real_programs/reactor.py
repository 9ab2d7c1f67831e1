from twisted.internet import reactor, task, threads

ticks = worked = 0


def tick():
    global ticks
    ticks += 1
    if ticks == 30:
        reactor.stop()


def work(n):
    global worked
    worked += 1
    return sum(range(n))


done = []
for n in range(20):
    threads.deferToThread(work, 1000 + n).addCallback(done.append)
task.LoopingCall(tick).start(0.005)
reactor.run()
print(len(done), f"\nCOUNT tick={ticks}\nCOUNT work={worked}")
