"""OpenStack Swift with its S3 API in one process: accounts and containers in SQLite, objects in files of a folder.

s3_service.py FOLDER PROXY-PORT MEMCACHED-PORT ACCOUNT KEY
"""
import os

import sys
from array import array

import eventlet

eventlet.patcher.monkey_patch(all=False, socket=True, select=True, thread=True, time=True)

from swift.account.server import AccountController
from swift.common import ring, utils
from swift.common.wsgi import loadapp
from swift.container.server import ContainerController

folder, proxy_port, memcached_port, account, key = sys.argv[1:6]
os.makedirs(os.path.join(folder, 'sda1', 'tmp'), exist_ok=True)
conf_file = os.path.join(folder, 'swift.conf')
with open(conf_file, 'w') as f:
    f.write('[swift-hash]\nswift_hash_path_suffix = tests\n')
utils.SWIFT_CONF_FILE = conf_file
utils.HASH_PATH_SUFFIX = b'tests'
utils.HASH_PATH_PREFIX = b''

sockets = {name: eventlet.listen(('127.0.0.1', 0)) for name in ('account', 'container', 'object')}
for name, socket in sockets.items():
    device = {
        'id': 0, 'zone': 0, 'region': 1, 'device': 'sda1', 'ip': '127.0.0.1', 'weight': 1.0,
        'port': socket.getsockname()[1], 'replication_ip': '127.0.0.1', 'replication_port': socket.getsockname()[1],
    }
    data = ring.RingData([array('H', [0] * 4)], [device], 30)
    data.save(os.path.join(folder, name + '.ring.gz'))

from swift.obj.server import ObjectController

conf = {'devices': folder, 'swift_dir': folder, 'mount_check': 'false', 'log_level': 'ERROR'}
makes = {'account': AccountController, 'container': ContainerController, 'object': ObjectController}
log = open(os.path.join(folder, 'log'), 'w')
for name, make in makes.items():
    eventlet.spawn(eventlet.wsgi.server, sockets[name], make(conf), log)

proxy_conf = os.path.join(folder, 'proxy.conf')
with open(proxy_conf, 'w') as f:
    f.write(f'''[DEFAULT]
swift_dir = {folder}
log_level = ERROR
[pipeline:main]
pipeline = catch_errors cache s3api tempauth bulk slo proxy-server
[app:proxy-server]
use = egg:swift#proxy
account_autocreate = true
allow_account_management = true
[filter:catch_errors]
use = egg:swift#catch_errors
[filter:cache]
use = egg:swift#memcache
memcache_servers = 127.0.0.1:{memcached_port}
[filter:s3api]
use = egg:swift#s3api
location = here
[filter:tempauth]
use = egg:swift#tempauth
user_{account}_{account} = {key} .admin
[filter:bulk]
use = egg:swift#bulk
[filter:slo]
use = egg:swift#slo
''')
proxy = loadapp(proxy_conf)
print('ready', flush=True)
eventlet.wsgi.server(eventlet.listen(('127.0.0.1', int(proxy_port))), proxy, log)
