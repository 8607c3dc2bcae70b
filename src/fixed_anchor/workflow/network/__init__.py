"""What is asked of the network, and from where: addresses, gateways, resolvers, neighbours."""
