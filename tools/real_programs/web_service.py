import asyncio
from aiohttp import ClientSession, web

served = 0


async def hello(request):
    global served
    served += 1
    await asyncio.sleep(0.001)
    return web.json_response({"n": int(request.match_info["n"])})


async def main():
    app = web.Application()
    app.router.add_get("/{n}", hello)
    runner = web.AppRunner(app)
    await runner.setup()
    site = web.TCPSite(runner, "127.0.0.1", 0)
    await site.start()
    port = site._server.sockets[0].getsockname()[1]
    async with ClientSession() as session:

        async def ask(n):
            async with session.get(f"http://127.0.0.1:{port}/{n}") as answer:
                return (await answer.json())["n"]

        print(sum(await asyncio.gather(*(ask(n) for n in range(60)))))
    await runner.cleanup()


asyncio.run(main())
print(f"COUNT hello={served}")
