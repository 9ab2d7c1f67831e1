import trio

sent = 0


async def produce(channel):
    global sent
    async with channel:
        for n in range(50):
            sent += 1
            await channel.send(n)
            await note()


noted = 0


async def note():
    global noted
    noted += 1
    await trio.sleep(0)


async def main():
    out, into = trio.open_memory_channel(3)
    async with trio.open_nursery() as nursery:
        async with out:
            for _ in range(4):
                nursery.start_soon(produce, out.clone())
        print(sum([n async for n in into]))
    print(await trio.to_thread.run_sync(sum, range(1000)))


trio.run(main)
print(f"COUNT note={noted}\nCOUNT produce=4")
