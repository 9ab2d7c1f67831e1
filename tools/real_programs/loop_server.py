from tornado import gen, ioloop, tcpclient, tcpserver

served = 0


class Echo(tcpserver.TCPServer):
    async def handle_stream(self, stream, address):
        global served
        served += 1
        stream.write(await stream.read_until(b"\n"))


async def main():
    server = Echo()
    server.listen(0, "127.0.0.1")
    port = next(iter(server._sockets.values())).getsockname()[1]
    total = 0
    for n in range(40):
        stream = await tcpclient.TCPClient().connect("127.0.0.1", port)
        await stream.write(b"%d\n" % n)
        total += int(await stream.read_until(b"\n"))
        stream.close()
    server.stop()
    await gen.sleep(0.01)
    print(total)


ioloop.IOLoop.current().run_sync(main)
print(f"COUNT Echo.handle_stream={served}")
