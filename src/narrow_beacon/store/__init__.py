"""Records in MariaDB, and the data folder that they know of."""
