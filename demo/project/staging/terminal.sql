select terminal_code, trim(terminal_name) as terminal_name
from landing.terminal;
