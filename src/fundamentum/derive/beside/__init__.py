"""What lies beside the source and speaks of needs: manifests, headers, samples of configurations, documents."""
