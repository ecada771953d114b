"""What RFC 7643, RFC 7644 and RFC 9865 ask of inbound SCIM, tried by plain HTTP; docs/reference/scim.md
names each test.
"""
