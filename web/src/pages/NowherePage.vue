<template>
  <main class="page">
    <EmptyNote title="There is no such page"
      >The address may have been cut off. <RouterLink to="/">Go to the first service.</RouterLink></EmptyNote
    >
  </main>
</template>
