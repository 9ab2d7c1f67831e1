from cryptography.fernet import Fernet
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec

kept = 0


def keep(box, text):
    global kept
    kept += 1
    return box.decrypt(box.encrypt(text)) == text


box = Fernet(Fernet.generate_key())
print(all(keep(box, b"x" * n) for n in range(100)))
key = ec.generate_private_key(ec.SECP256R1())
signed = key.sign(b"m", ec.ECDSA(hashes.SHA256()))
print(key.public_key().verify(signed, b"m", ec.ECDSA(hashes.SHA256())), f"\nCOUNT keep={kept}")
