<template>
  <div class="page">
    <h1>There is no such page</h1>
    <p><router-link to="/">Back to Now</router-link></p>
  </div>
</template>
