select port_code, trim(port_name) as port_name, flag_code
from landing.port;
