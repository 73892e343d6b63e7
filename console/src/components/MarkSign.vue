<template>
  <svg viewBox="0 0 32 32" width="26" height="26" role="img" aria-label="Inner Gate">
    <path fill="currentColor" d="M3 5h26v4H3zM5 9h4v19H5zM23 9h4v19h-4z" />
    <path fill="var(--gate)" d="M12 28V17a4 4 0 0 1 8 0v11h-2.4V17a1.6 1.6 0 0 0-3.2 0v11z" />
  </svg>
</template>
