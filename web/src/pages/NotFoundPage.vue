<template>
  <main class="page">
    <EmptyNote title="Page not found"
      >The address may be incomplete. <RouterLink to="/">Go to Services</RouterLink></EmptyNote
    >
  </main>
</template>
