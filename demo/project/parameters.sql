-- Dues are charged by tonnage; a vessel below this tonnage pays none.
set param.least_tonnage = '100';
