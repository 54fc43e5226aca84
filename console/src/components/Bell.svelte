<script lang="ts">
  // The sign of the product.
</script>

<svg width="20" height="20" viewBox="0 0 20 20" aria-hidden="true">
  <path
    d="M10 1.500c4 0 5 3 5 7 0 3 1 4.500 2.500 6h-15C4 13 5 11.500 5 8.500c0-4 1-7 5-7z"
    fill="var(--color-primary)"
  />
  <rect x="8.300" y="15.800" width="3.400" height="3" rx="1.500" fill="currentColor" />
</svg>
