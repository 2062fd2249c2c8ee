# An FTP server for tests, of Debian's package python3-pyftpdlib: one account, few
# connections, and only what RFC 959 has if the last argument says so.
import sys

from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import FTPHandler
from pyftpdlib.servers import FTPServer

port, folder, most, old = int(sys.argv[1]), sys.argv[2], int(sys.argv[3]), sys.argv[4] == "old"


class Handler(FTPHandler):
    authorizer = DummyAuthorizer()
    timeout = 2 if old else 300  # idle connections are ended


Handler.authorizer.add_user("keeper", "practice", folder, perm="elradfmwMT")
if old:
    Handler.proto_cmds = {k: v for k, v in FTPHandler.proto_cmds.items()
                          if k not in ("MLSD", "MLST", "MDTM", "MFMT", "EPSV", "SITE CHMOD", "FEAT")}
server = FTPServer(("127.0.0.1", port), Handler)
server.max_cons = most
server.serve_forever()
