"""What is planned: frozen records, what must hold for every plan, and what people agreed on."""
