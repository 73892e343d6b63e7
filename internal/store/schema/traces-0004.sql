PRAGMA user_version = 4;
