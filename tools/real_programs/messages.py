import threading
import zmq

context, handled = zmq.Context(), 0


def handle(text):
    global handled
    handled += 1
    return text[::-1]


def serve(socket):
    while (text := socket.recv()) != b"end":
        socket.send(handle(text))
    socket.close()


server = context.socket(zmq.REP)
port = server.bind_to_random_port("tcp://127.0.0.1")
thread = threading.Thread(target=serve, args=(server,))
thread.start()
client = context.socket(zmq.REQ)
client.connect(f"tcp://127.0.0.1:{port}")
got = []
for n in range(200):
    client.send(b"m%d" % n)
    got.append(client.recv())
client.send(b"end")
thread.join()
client.close()
print(len(set(got)), f"\nCOUNT handle={handled}")
