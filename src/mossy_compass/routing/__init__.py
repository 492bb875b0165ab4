"""From the model to forwarding: who hears whom on which segment, and each device's route table."""
