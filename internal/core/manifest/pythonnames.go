package manifest

import "strings"

// pythonProvides names, for a module, the packages that provide it, where the names
// differ. A repository adds its own in [provides.python].
var pythonProvides = map[string]string{
	"attr": "attrs", "bs4": "beautifulsoup4", "cv2": "opencv-python opencv-python-headless opencv-contrib-python",
	"Crypto": "pycryptodome", "dateutil": "python-dateutil", "docx": "python-docx", "dotenv": "python-dotenv",
	"fitz": "pymupdf", "git": "gitpython", "google": "protobuf", "grpc": "grpcio", "jose": "python-jose", "jwt": "pyjwt",
	"ldap": "python-ldap", "magic": "python-magic", "markdown": "markdown", "memcache": "python-memcached",
	"multipart": "python-multipart", "MySQLdb": "mysqlclient", "nacl": "pynacl", "OpenSSL": "pyopenssl", "PIL": "pillow",
	"pkg_resources": "setuptools", "pptx": "python-pptx", "psycopg": "psycopg psycopg-binary",
	"psycopg2": "psycopg2 psycopg2-binary", "rest_framework": "djangorestframework", "ruamel": "ruamel-yaml",
	"serial": "pyserial", "skimage": "scikit-image", "sklearn": "scikit-learn", "slugify": "python-slugify",
	"socks": "pysocks", "usb": "pyusb", "win32api": "pywin32", "yaml": "pyyaml", "zmq": "pyzmq",
}

// pythonStandard are the modules of the standard library:
// https://docs.python.org/3/py-modindex.html.
var pythonStandard = strings.Fields(`
__future__ __main__ _thread abc aifc annotationlib antigravity argparse array ast asynchat asyncio asyncore 
atexit audioop base64 bdb binascii bisect builtins bz2 cProfile calendar cgi cgitb chunk cmath cmd code 
codecs codeop collections colorsys compileall compression concurrent configparser contextlib contextvars copy 
copyreg crypt csv ctypes curses dataclasses datetime dbm decimal difflib dis distutils doctest email 
encodings ensurepip enum errno faulthandler fcntl filecmp fileinput fnmatch fractions ftplib functools gc 
genericpath getopt getpass gettext glob graphlib grp gzip hashlib heapq hmac html http idlelib imaplib imghdr 
imp importlib inspect io ipaddress itertools json keyword lib2to3 linecache locale logging lzma mailbox 
mailcap marshal math mimetypes mmap modulefinder msilib msvcrt multiprocessing netrc nis nntplib nt ntpath 
nturl2path numbers opcode operator optparse os ossaudiodev pathlib pdb pickle pickletools pipes pkgutil 
platform plistlib poplib posix posixpath pprint profile pstats pty pwd py_compile pyclbr pydoc pydoc_data 
pyexpat queue quopri random re readline reprlib resource rlcompleter runpy sched secrets select selectors 
shelve shlex shutil signal site smtpd smtplib sndhdr socket socketserver spwd sqlite3 sre_compile 
sre_constants sre_parse ssl stat statistics string stringprep struct subprocess sunau symtable sys sysconfig 
syslog tabnanny tarfile telnetlib tempfile termios textwrap this threading time timeit tkinter token tokenize 
tomllib trace traceback tracemalloc tty turtle turtledemo types typing unicodedata unittest urllib uu uuid 
venv warnings wave weakref webbrowser winreg winsound wsgiref xdrlib xml xmlrpc zipapp zipfile zipimport zlib 
zoneinfo`)
