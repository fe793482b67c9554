"""A gateway that opens TLS: it shows its own certificate and hands on what it reads (LISTEN PORT FAR CERTIFICATE)."""

import socket
import ssl
import sys
import threading

listen, port, far, certificate = sys.argv[1], int(sys.argv[2]), sys.argv[3], sys.argv[4]
server = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
server.load_cert_chain(certificate)
client = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
client.check_hostname = False
client.verify_mode = ssl.CERT_NONE


def hand_on(source: socket.socket, target: socket.socket) -> None:
    try:
        while data := source.recv(4096):
            target.sendall(data)
    except OSError:
        pass
    target.close()


listener = socket.create_server((listen, port))
while True:
    connection, _ = listener.accept()
    try:
        near = server.wrap_socket(connection, server_side=True)
        beyond = client.wrap_socket(socket.create_connection((far, port), 5))
    except OSError:
        continue
    for pair in ((near, beyond), (beyond, near)):
        threading.Thread(target=hand_on, args=pair, daemon=True).start()
