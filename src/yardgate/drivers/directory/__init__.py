"""Where accounts come from: a directory read over LDAP, or its content as LDIF. What is read are `core.directory` records."""
